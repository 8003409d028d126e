"""Compares what a mail host tells of its messages with what Python's own libraries read in them.

imaplib fetches; email parses. Every n-th message of every folder: octets against RFC822.SIZE, header fields against
ENVELOPE, parts against BODYSTRUCTURE. Prints how many were compared; any difference ends it with status 1.
"""
import email
import email.utils
import imaplib
import re
import sys


def parse(data):
    """Reads a parenthesised list of IMAP with its strings and literals; NIL is None."""
    at = 0

    def value():
        nonlocal at
        while data[at:at + 1] == b' ':
            at += 1
        here = data[at:at + 1]
        if here == b'(':
            at += 1
            items = []
            while data[at:at + 1] != b')':
                items.append(value())
                while data[at:at + 1] == b' ':
                    at += 1
            at += 1
            return items
        if here == b'"':
            match = re.compile(rb'"((?:[^"\\]|\\.)*)"').match(data, at)
            at = match.end()
            return re.sub(rb'\\(.)', rb'\1', match.group(1))
        if here == b'{':
            match = re.compile(rb'\{(\d+)\}\r\n').match(data, at)
            at = match.end() + int(match.group(1))
            return data[match.end():at]
        match = re.compile(rb'[^ ()\[]+(?:\[[^\]]*\])?').match(data, at)
        at = match.end()
        return None if match.group(0) == b'NIL' else match.group(0)

    return value()


def joined(parts):
    """imaplib hands out literals apart from the text around them."""
    return b''.join(part if isinstance(part, bytes) else part[0] + b'\r\n' + part[1] for part in parts)


def octets(text):
    return text.encode('ascii', 'surrogateescape')


def raw_field(raw, name):
    head = re.split(rb'\r\n\r\n', raw, maxsplit=1)[0] + b'\r\n'
    match = re.search(rb'(?im)^' + name + rb':[ \t]*((?:[^\r\n]|\r\n[ \t])*)\r\n', head)
    return None if match is None else re.sub(rb'\r\n', b'', match.group(1)).strip()


def check_structure(part, structure, where):
    if part.is_multipart() and part.get_content_maintype() == 'multipart':
        children = [item for item in structure if isinstance(item, list) and isinstance(item[0], (list, bytes))]
        count = len(part.get_payload())
        for index, child in enumerate(part.get_payload()):
            check_structure(child, structure[index], f'{where}.{index + 1}')
        assert structure[count].lower() == part.get_content_subtype().encode(), (where, structure[count])
        assert children[:count], where
        return
    main, sub, _, _, _, encoding, size = structure[:7]
    assert (main + b'/' + sub).lower() == part.get_content_type().encode(), (where, main, sub)
    # get_payload() would replace octets that are no US-ASCII.
    body = octets(part._payload)
    assert int(size) == len(body), (where, int(size), len(body))
    assert encoding.lower() == (part.get('Content-Transfer-Encoding') or '7bit').lower().encode(), (where, encoding)
    if main.upper() == b'TEXT':
        assert int(structure[7]) == body.count(b'\n'), (where, structure[7])
    name = part.get_filename()
    disposition = structure[9 if main.upper() == b'TEXT' else 8]
    if name and disposition and disposition[1]:
        given = dict(zip([key.upper() for key in disposition[1][::2]], disposition[1][1::2]))
        plain = given.get(b'FILENAME')
        assert plain is None or plain.decode() == name, (where, name)
        assert plain is not None or b'FILENAME*' in given, where


def check_envelope(raw, envelope, where):
    date, subject, sender = envelope[0], envelope[1], envelope[2]
    assert date == raw_field(raw, b'Date'), (where, date)
    assert subject == raw_field(raw, b'Subject'), (where, subject)
    assert envelope[9] == raw_field(raw, b'Message-ID'), (where, envelope[9])
    author = raw_field(raw, b'From')
    if author and re.fullmatch(rb'[\x20-\x7e]+', author) and b'<script' not in author:
        expected = [address.encode() for _, address in email.utils.getaddresses([author.decode()]) if address]
        given = [box + b'@' + host for _, _, box, host in sender or []]
        assert given == expected, (where, given, expected)


def main():
    port, user, password, step = int(sys.argv[1]), sys.argv[2], sys.argv[3], int(sys.argv[4])
    server = imaplib.IMAP4('127.0.0.1', port)
    server.login(user, password)
    folders = [re.search(rb'"/" (.*)$', line).group(1).decode() for line in server.list()[1]]
    compared = 0
    for folder in folders:
        count = int(server.select(folder, readonly=True)[1][0])
        for number in range(1, count + 1):
            if (number + len(folder)) % step:
                continue
            _, parts = server.fetch(str(number), '(RFC822.SIZE ENVELOPE BODYSTRUCTURE BODY.PEEK[])')
            answer = parse(joined(parts).split(b' ', 1)[1])
            items = dict(zip([key.upper() for key in answer[::2]], answer[1::2]))
            raw = items[b'BODY[]']
            where = f'{folder} {number}'
            assert len(raw) == int(items[b'RFC822.SIZE']), (where, len(raw), items[b'RFC822.SIZE'])
            message = email.message_from_bytes(raw)
            check_envelope(raw, items[b'ENVELOPE'], where)
            check_structure(message, items[b'BODYSTRUCTURE'], where)
            compared += 1
    server.logout()
    print(compared)


main()
