"""Holds the mbox files of a bag against what imaplib fetches: every message of the mailbox, octet for octet, with its date and flags.

Usage: check_mail.py PORT USER PASSWORD BAG. Prints how many messages are equal.
"""

import collections
import email
import hashlib
import imaplib
import json
import mailbox
import pathlib
import re
import sys
import time

imaplib._MAXLINE = 10_000_000


def fetched(port, user, password):
    """By SHA-256, the INTERNALDATE and the flags of every message."""
    found = collections.defaultdict(list)
    with imaplib.IMAP4("127.0.0.1", port) as server:
        server.login(user, password)
        for line in server.list()[1]:
            # Views that repeat mail, and names that hold none.
            if re.search(rb"\\(Noselect|NonExistent|All|Flagged)", line, re.IGNORECASE):
                continue
            folder = re.search(rb'"?([^" ]+)"?$', line).group(1).decode()
            if int(server.select(f'"{folder}"', readonly=True)[1][0]) == 0:
                continue
            for item in server.fetch("1:*", "(INTERNALDATE FLAGS BODY.PEEK[])")[1]:
                if not isinstance(item, tuple):
                    continue
                head, octets = item
                # The flags may stand behind the octets.
                flags = {flag.decode().lower() for flag in imaplib.ParseFlags(head)} - {"\\recent"}
                date = time.mktime(imaplib.Internaldate2tuple(head))
                found[hashlib.sha256(octets).hexdigest()].append((date, frozenset(flags), octets))
    return found


def main():
    port, user, password, bag = sys.argv[1:]
    hosted = fetched(int(port), user, password)
    data = pathlib.Path(bag, "data")
    index = [json.loads(line) for line in (data / "index.jsonl").read_text().splitlines()]
    by_path = collections.defaultdict(list)
    for entry in index:
        by_path[entry["path"]].append(entry)
    equal = 0
    for path, entries in by_path.items():
        box = mailbox.mbox(data / path, create=False)
        keys = list(box.keys())
        assert len(keys) == len(entries), f"{path}: Python reads {len(keys)} messages, the index names {len(entries)}"
        for key, entry in zip(keys, sorted(entries, key=lambda one: one["offset"])):
            octets = re.sub(rb"(?m)^>(>*From )", rb"\1", box.get_bytes(key))[: entry["size"]]
            assert hashlib.sha256(octets).hexdigest() == entry["sha256"], f"{path}: {entry['subject']}"
            matches = hosted[entry["sha256"]]
            date = time.mktime(time.strptime(entry["received"][:19] + " +0000", "%Y-%m-%dT%H:%M:%S %z")) - time.timezone
            flags = frozenset(flag.lower() for flag in entry["flags"] + entry["keywords"])
            same = [one for one in matches if one[:2] == (date, flags)]
            assert same, f"{entry['subject']}: {date} {flags}, and the server has {[one[:2] for one in matches]}"
            matches.remove(same[0])
            # A general parser reads the same message from either.
            assert email.message_from_bytes(octets).keys() == email.message_from_bytes(same[0][2]).keys()
            equal += 1
    left = sum(len(matches) for matches in hosted.values())
    assert left == 0, f"{left} messages of the mailbox are in no file"
    print(equal)


main()
