"""Compares messages of which files were taken out with the originals in the trash, by Python's own libraries.

imaplib fetches both, email parses both. Outside the parts that were replaced all must be equal, octet for octet: fields,
preambles, epilogues, the other parts. In the place of each file stands a text that says its SHA-256, which must be that of
what the original's part decodes to. INTERNALDATE, flags and keywords must be equal too. Prints how many messages and files
were compared; any difference ends it with status 1.
"""
import bisect
import email
import email.policy
import hashlib
import imaplib
import re
import sys

NOTE = 'A file was taken out here'
port, user, password, trash = int(sys.argv[1]), sys.argv[2], sys.argv[3], sys.argv[4]
imaplib._MAXLINE = 10_000_000


def quoted(name):
    return b'"' + name.replace(b'\\', b'\\\\').replace(b'"', b'\\"') + b'"'


def folders(server):
    for line in server.list()[1]:
        if b'Noselect' in line or b'\\All' in line or b'\\Flagged' in line:
            continue
        match = re.search(rb'\) (?:"[^"]*"|NIL) ("?)(.*?)\1$', line)
        if match:
            yield match.group(2)


def rewritten(server):
    """UIDs of messages in whose structure the description of what stands in the place of a file is told."""
    answer = server.uid('FETCH', '1:*', '(UID BODYSTRUCTURE)')[1]
    told = b' '.join(b' '.join(item) if isinstance(item, tuple) else item or b'' for item in answer)
    found = {}
    for match in re.finditer(rb'\(UID (\d+) ', told):
        found[match.start()] = match.group(1)
    starts = sorted(found)
    places = [match.start() for match in re.finditer(NOTE.encode(), told)]
    return sorted({found[starts[bisect.bisect(starts, place) - 1]] for place in places}, key=int)


def read(server, folder, uids):
    """Octets, date, flags of messages."""
    status, count = server.select(quoted(folder).decode('latin1'), readonly=True)
    assert status == 'OK', folder
    for uid in uids(server) if int(count[0]) > 0 else []:
        answer = server.uid('FETCH', uid, '(INTERNALDATE FLAGS BODY.PEEK[])')[1]
        raw = next(item[1] for item in answer if isinstance(item, tuple))
        told = b' '.join(item[0] if isinstance(item, tuple) else item for item in answer)
        date = re.search(rb'INTERNALDATE "([^"]*)"', told).group(1)
        flags = sorted(set(re.search(rb'FLAGS \(([^)]*)\)', told).group(1).split()) - {b'\\Recent'})
        yield raw, imaplib.Internaldate2tuple(b'INTERNALDATE "' + date + b'"'), flags


def parsed(raw):
    return email.message_from_bytes(raw, policy=email.policy.compat32)


def key(message):
    return tuple(str(message.get(name)) for name in ('Message-ID', 'From', 'Subject', 'Date'))


def is_note(part):
    return part.get('Content-Description') == NOTE and part.get_content_type() == 'text/plain'


def fields(part):
    return [(name, str(value)) for name, value in part.items()]


files = 0


def same(old, new, where, whole=False):
    global files
    if is_note(new):
        text = new.get_payload(decode=True).decode('utf-8')
        told = re.search(r'SHA-256: ([0-9a-f]{64})', text).group(1)
        if old.get_content_type() == 'message/rfc822':
            # Some servers count the line end before the next delimiter as the enclosed message's.
            decoded = [old.raw, old.raw + b'\r\n']
        else:
            decoded = [old.get_payload(decode=True)]
        assert told in [hashlib.sha256(octets).hexdigest() for octets in decoded], (where, 'another file', old.get_content_type())
        assert (new.get_filename() or '').endswith('.txt'), where
        if whole:
            kept = [pair for pair in fields(old) if not pair[0].lower().startswith('content-')]
            assert [pair for pair in fields(new) if not pair[0].lower().startswith('content-')] == kept, where
        files += 1
        return
    assert fields(old) == fields(new), (where, 'fields')
    assert old.preamble == new.preamble and old.epilogue == new.epilogue, (where, 'between the parts')
    if old.is_multipart():
        assert len(old.get_payload()) == len(new.get_payload()), (where, 'number of parts')
        for index, (one, other) in enumerate(zip(old.get_payload(), new.get_payload())):
            same(one, other, f'{where}.{index + 1}', old.get_content_type() == 'message/rfc822')
    else:
        assert old.get_payload() == new.get_payload(), (where, 'octets')


def with_raw(message, raw):
    """Gives enclosed messages their octets as they stand, since writing them anew may fold fields."""
    for part in message.walk():
        if part.get_content_type() != 'message/rfc822':
            continue
        inner = part.get_payload(0)
        name, value = inner.items()[0]
        begin = raw.index(b'\r\n\r\n' + name.encode() + b': ' + str(value).encode('utf-8', 'surrogateescape')) + 4
        boundary = b'\r\n--' + parent_of(message, part).get_boundary().encode()
        part.raw = raw[begin:raw.index(boundary, begin)]
    return message


def parent_of(message, part):
    return next(each for each in message.walk() if each.is_multipart() and any(one is part for one in each.get_payload()))


server = imaplib.IMAP4('127.0.0.1', port)
server.login(user, password)
originals = {}
for raw, date, flags in read(server, trash.encode(), lambda server: server.uid('SEARCH', 'ALL')[1][0].split()):
    originals.setdefault(key(parsed(raw)), []).append((raw, date, flags))
messages = 0
for folder in folders(server):
    if folder == trash.encode():
        continue
    for raw, date, flags in read(server, folder, rewritten):
        new = parsed(raw)
        found = originals.get(key(new), [])
        assert found, (folder, key(new), 'no original')
        faults = []
        for old_raw, old_date, old_flags in found:
            before = files
            try:
                assert len(raw) < len(old_raw), 'not smaller'
                assert date == old_date and flags == old_flags, ('date and flags', date, old_date, flags, old_flags)
                same(with_raw(parsed(old_raw), old_raw), new, folder.decode('latin1'), True)
                break
            except (AssertionError, ValueError) as fault:
                files = before
                faults.append(fault)
        else:
            print(key(new), faults)
            sys.exit(1)
        messages += 1
print(messages, files)
