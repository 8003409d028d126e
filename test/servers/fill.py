"""Makes a folder with Python's imaplib, by its name on the wire, and appends small messages with line ends of CRLF to it."""

import imaplib
import sys

port, user, password, folder, count = sys.argv[1:6]
client = imaplib.IMAP4("127.0.0.1", int(port))
client.login(user, password)
if folder != "INBOX":
    assert client.create(f'"{folder}"')[0] == "OK"
for index in range(int(count)):
    message = (
        f"From: Bee Forum <forum{index % 7}@beeforum.example>\r\nMessage-ID: <{index}.{abs(hash(folder))}@bench.example>\r\n"
        f"Subject: Swarm {index}\r\nDate: Tue, 24 Nov 2020 12:00:00 +0000\r\n\r\n" + "hello\r\n" * (20 + index % 50)
    )
    assert client.append(f'"{folder}"', None, None, message.encode())[0] == "OK"
client.logout()
