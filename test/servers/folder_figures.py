"""What Python's imaplib is told of a folder: STATUS, the count of SEARCH, flags, and the sum of RFC822.SIZE. As JSON."""

import imaplib
import json
import re
import sys

imaplib._MAXLINE = 1 << 26

port, user, password, folder = sys.argv[1:5]
client = imaplib.IMAP4("127.0.0.1", int(port))
client.login(user, password)
status = client.status(f'"{folder}"', "(MESSAGES)")[1][0].decode()
messages = int(re.search(r"MESSAGES (\d+)", status)[1])
client.select(f'"{folder}"', readonly=True)
searched = len((client.uid("search", None, "ALL")[1][0] or b"").split())
flagged = len((client.uid("search", None, "FLAGGED")[1][0] or b"").split())
octets = 0
for first in range(1, messages + 1, 20000):
    for line in client.fetch(f"{first}:{min(messages, first + 19999)}", "(RFC822.SIZE)")[1]:
        octets += int(re.search(rb"RFC822.SIZE (\d+)", line)[1])
client.logout()
print(json.dumps({"messages": messages, "searched": searched, "flagged": flagged, "bytes": octets}))
