"""Reads scripts over ManageSieve (RFC 5804) with nothing of ours: prints name, whether it is active, and its text, as JSON.

Arguments: port, user, password, file of the authority.
"""

import base64
import json
import re
import socket
import ssl
import sys

port, user, password, authority = sys.argv[1:5]
plain = socket.create_connection(("127.0.0.1", int(port)))


def lines_of(stream):
    """Lines up to the one that says how it went; literals as they are."""
    lines = []
    while True:
        line = stream.readline().decode()
        literal = re.search(r"\{(\d+)\}\r\n$", line)
        if literal:
            line = stream.read(int(literal.group(1))).decode()
            stream.readline()
        lines.append(line)
        if re.match(r"(OK|NO|BYE)", line):
            assert line.startswith("OK"), line
            return lines[:-1]


stream = plain.makefile("rb")
lines_of(stream)
plain.sendall(b"STARTTLS\r\n")
lines_of(stream)
context = ssl.create_default_context(cafile=authority)
secure = context.wrap_socket(plain, server_hostname="localhost")
stream = secure.makefile("rb")
lines_of(stream)
secret = base64.b64encode(f"\0{user}\0{password}".encode()).decode()
secure.sendall(f'AUTHENTICATE "PLAIN" "{secret}"\r\n'.encode())
lines_of(stream)
secure.sendall(b"LISTSCRIPTS\r\n")
scripts = []
for line in lines_of(stream):
    name = re.match(r'"(.*)"', line).group(1)
    secure.sendall(f'GETSCRIPT "{name}"\r\n'.encode())
    scripts.append({"name": name, "active": "ACTIVE" in line, "script": lines_of(stream)[0]})
print(json.dumps(scripts))
