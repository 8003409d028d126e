"""Asks an IMAP server for threads (RFC 5256, REFERENCES). Prints, as JSON, lists of Message-IDs in their order in the thread."""

import imaplib
import json
import re
import sys

port, user, password = int(sys.argv[1]), sys.argv[2], sys.argv[3]
with imaplib.IMAP4("127.0.0.1", port) as server:
    server.login(user, password)
    server.select("INBOX", readonly=True)
    identities = {}
    for line in server.fetch("1:*", "(BODY.PEEK[HEADER.FIELDS (MESSAGE-ID)])")[1]:
        if isinstance(line, tuple):
            number = int(re.match(rb"(\d+)", line[0]).group(1))
            identities[number] = re.search(rb"<[^>]+>", line[1]).group(0).decode()
    answer = server.thread("REFERENCES", "UTF-8", "ALL")[1][0].decode()

threads, depth, here = [], 0, []
for piece in re.findall(r"[()]|\d+", answer):
    if piece == "(":
        depth += 1
    elif piece == ")":
        depth -= 1
        if depth == 0:
            threads.append(here)
            here = []
    else:
        here.append(identities[int(piece)])
print(json.dumps(threads))
