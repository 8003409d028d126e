"""Writes mail into files of the forms in which people keep it, with Python's own mailbox, tarfile and zipfile.

Arguments: a folder with messages, 0.eml and on, and the folder to write to. Prints nothing.
"""

import gzip
import mailbox
import os
import sys
import tarfile
import time
import zipfile

source, target = sys.argv[1:3]
names = sorted((name for name in os.listdir(source) if name.endswith(".eml")), key=lambda name: int(name[:-4]))
messages = [open(os.path.join(source, name), "rb").read() for name in names]
when = 1_620_117_000

box = mailbox.mbox(os.path.join(target, "letters.mbox"))
for octets in messages:
    message = mailbox.mboxMessage(octets)
    message.set_from("odile@quorn.example", time.gmtime(when))
    message.set_flags("RO")
    box.add(message)
box.flush()
box.close()

root = os.path.join(target, "Maildir")
maildir = mailbox.Maildir(root, create=True)
plans = maildir.add_folder("Work.Plans")
for at, octets in enumerate(messages):
    message = mailbox.MaildirMessage(octets)
    message.set_subdir("cur")
    message.set_flags("FS" if at % 2 else "R")
    message.set_date(when + at)
    (plans if at % 3 else maildir).add(message)
with tarfile.open(os.path.join(target, "maildir.tar"), "w", format=tarfile.PAX_FORMAT) as archive:
    archive.add(root, "Maildir")
with tarfile.open(os.path.join(target, "maildir-gnu.tar.gz"), "w:gz", format=tarfile.GNU_FORMAT) as archive:
    archive.add(root, "home/tern/Maildir")
with zipfile.ZipFile(os.path.join(target, "maildir.zip"), "w", zipfile.ZIP_DEFLATED) as archive:
    for folder, _, files in os.walk(root):
        for name in files:
            path = os.path.join(folder, name)
            archive.write(path, os.path.relpath(path, target))

with zipfile.ZipFile(os.path.join(target, "letters.zip"), "w", zipfile.ZIP_DEFLATED) as archive:
    for at, octets in enumerate(messages):
        archive.writestr(f"Old mail/Council/{at}.eml", octets)
