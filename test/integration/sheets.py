"""Sheets of mailboxes through Python's csv (https://docs.python.org/3/library/csv.html).

    python3 sheets.py write FILE < rows.json      writes rows in every dialect, a file each
    python3 sheets.py read < sheet.csv            prints the rows that csv finds, as JSON
"""

import csv
import io
import json
import sys

DIALECTS = {
    "excel": {"dialect": "excel"},
    "tab": {"dialect": "excel-tab"},
    "unix": {"dialect": "unix"},
    "semicolon": {"delimiter": ";", "lineterminator": "\n"},
    "quoted": {"quoting": csv.QUOTE_ALL},
    "words": {"quoting": csv.QUOTE_NONNUMERIC, "lineterminator": "\r\n"},
}

if sys.argv[1] == "write":
    rows = json.load(sys.stdin)
    written = {}
    for name, options in DIALECTS.items():
        out = io.StringIO(newline="")
        csv.writer(out, **options).writerows(rows)
        written[name] = out.getvalue()
    print(json.dumps(written))
else:
    text = sys.stdin.buffer.read().decode("utf-8-sig")
    print(json.dumps(list(csv.DictReader(io.StringIO(text, newline="")))))
