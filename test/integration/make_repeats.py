"""Fills a Maildir with messages that exist more than once, and with many more that only look so. Prints the truth as JSON."""

import json
import mailbox
import random
import sys
from base64 import encodebytes

path, alike, twins = sys.argv[1], int(sys.argv[2]), int(sys.argv[3])
chance = random.Random(7)
inbox = mailbox.Maildir(path, create=True)
old = inbox.add_folder("Old")


def letter(name, text="As agreed.", subject=None, to="local@saltmarshlane.example", identity=None, before=(), behind=(), file=None):
    fields = [
        *before,
        "From: Odile Marchbanks <odile@saltmarshlane.example>",
        f"To: {to}",
        f"Subject: {name if subject is None else subject}",
        "Date: Sun, 6 Aug 2023 10:00:00 +0000",
        *([] if identity == "" else [f"Message-ID: <{identity or name}@saltmarshlane.example>"]),
        *behind,
    ]
    if file is None:
        body = ["Content-Type: text/plain", "", text, ""]
    else:
        body = [
            'Content-Type: multipart/mixed; boundary="=_edge"', "", "--=_edge", "Content-Type: text/plain", "", text, "--=_edge",
            'Content-Type: application/pdf; name="plan.pdf"', "Content-Transfer-Encoding: base64", "",
            encodebytes(file).decode().strip(), "--=_edge--", "",
        ]
    return "\n".join([*fields, *body]).encode()


def other_text(name):
    return letter(name, text="As agreed, at 9."), letter(name, text="As agreed, at 8.")


def other_file(name):
    octets = chance.randbytes(300)
    return letter(name, file=octets), letter(name, file=octets[:-1] + bytes([octets[-1] ^ 1]))


def other_subject(name):
    return letter(name), letter(name, subject=name.replace("l", "1", 1))


def other_recipient(name):
    return letter(name), letter(name, to="loca1@saltmarshlane.example")


def another_line(name):
    return letter(name), letter(name, text="As agreed.\n")


def without_identity(name):
    return letter(name, identity="", text="A."), letter(name, identity="", text="B.")


def same_octets(name):
    one = letter(name, file=chance.randbytes(200))
    return one, one


def same_octets_without_identity(name):
    one = letter(name, identity="")
    return one, one


def same_but_for_transport(name):
    arrived = ["Return-Path: <odile@saltmarshlane.example>", "Delivered-To: local", "Received: from one by two;", "\tlong ago", "X-Spam-Flag: NO"]
    return letter(name, before=arrived), letter(name, before=["Received: from two by three"], behind=["Status: RO"])


def same_content(name):
    return letter(name, behind=["Bcc: piers@saltmarshlane.example"]), letter(name, before=["Reply-To: list@saltmarshlane.example"])


def fill(kinds, count, word):
    told = {}
    for number in range(count):
        kind = kinds[number % len(kinds)]
        name = f"{word} {number}"
        one, other = kind(name.replace(" ", "-"))
        inbox.add(one)
        old.add(other)
        told[name.replace(" ", "-")] = kind.__name__
    return told


fill([other_text, other_file, other_subject, other_recipient, another_line, without_identity], alike, "looks-alike")
truth = fill([same_octets, same_octets_without_identity, same_but_for_transport, same_content], twins, "twin")
print(json.dumps(truth))
