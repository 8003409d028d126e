"""Sends IMAP commands with Python's imaplib, one after the other, and fails when one of them is refused."""

import imaplib
import sys

port, user, password, *commands = sys.argv[1:]
client = imaplib.IMAP4("127.0.0.1", int(port))
client.login(user, password)
for command in commands:
    name, rest = command.split(" ", 1)
    imaplib.Commands.setdefault(name, ("AUTH", "SELECTED"))
    kind, answer = client._simple_command(name, rest)
    assert kind == "OK", (command, answer)
client.logout()
