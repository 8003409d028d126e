"""Delivers a message, which it reads from its standard input, over LMTP (RFC 2033), as a mail server does."""

import smtplib
import sys

port, recipient = sys.argv[1:3]
with smtplib.LMTP("127.0.0.1", int(port)) as client:
    refused = client.sendmail("sender@outside.example", [recipient], sys.stdin.buffer.read())
    assert not refused, refused
