"""Reads a Maildir with Python's own mailbox: how many messages each folder has, and the digest of each message with its flags.

Argument: the Maildir. Prints JSON: by folder, a sorted list of "digest flags".
"""

import hashlib
import json
import mailbox
import os
import sys


def told(box, path):
    lines = []
    for key in box.keys():
        octets = box.get_bytes(key)
        message = box.get_message(key)
        lines.append(f"{hashlib.sha256(octets).hexdigest()} {''.join(sorted(message.get_flags()))}")
        with open(os.path.join(path, "cur", f"{key}:2,{message.get_info()[2:]}"), "rb") as file:
            assert len(file.read()) == int(key.split("S=")[1]), key
    return sorted(lines)


root = mailbox.Maildir(sys.argv[1], create=False)
found = {"": told(root, sys.argv[1])}
for name in root.list_folders():
    found[name] = told(root.get_folder(name), os.path.join(sys.argv[1], f".{name}"))
print(json.dumps(found))
