"""Fills a Maildir with threads whose answers quote, and with files that were mailed again; Python's email writes them. Prints the truth as JSON."""

import hashlib
import json
import mailbox
import random
import sys
from email.message import EmailMessage
from email.utils import format_datetime
from datetime import datetime, timedelta, timezone
from html import escape
from pathlib import Path
from textwrap import fill

path, threads, folder = sys.argv[1], int(sys.argv[2]), Path(sys.argv[3])
files = int(sys.argv[4]) if len(sys.argv) > 4 else 40
chance = random.Random(11)
inbox = mailbox.Maildir(path, create=True)
now = datetime(2023, 8, 6, 10, tzinfo=timezone.utc)

SENTENCES = """The frost has burst the water butt behind the shed.
Who can lend a ladder on Saturday?
Plot {n} has paid for the year, {m} pounds in all.
The slugs have had the lettuces, all of them, in one night.
Die Wasseruhr an Parzelle {n} läuft rückwärts, sagt Jördis.
Können wir die Sitzung auf Donnerstag um {m} Uhr legen?
Le portail du jardin ferme mal, il faudrait {n} charnières neuves.
Les abeilles ont essaimé près de la parcelle {m}.
La cerradura del cobertizo número {n} está rota otra vez.
Per la fiera servono {m} tavoli e una tenda asciutta.
De sleutel van het hek hangt bij perceel {n}.
Gräns mot parcell {m} är inte utmärkt.
The hedge needs cutting before the {n}th, and the skip comes at {m}.
I have put the minutes into the folder by the door.""".splitlines()

HEADS = [
    "On {day}, {who} wrote:", "Am {day} schrieb {who}:", "Le {day}, {who} a écrit :", "El {day}, {who} escribió:",
    "Il giorno {day} {who} ha scritto:", "Op {day} schreef {who}:", "Den {day} skrev {who}:",
    "-----Original Message-----\nFrom: {who}\nSent: {day}\nSubject: {subject}\n", "________________________________\nVon: {who}\nGesendet: {day}\n",
]
PEOPLE = ["Odile Marchbanks", "Piers Cattermole", "Jördis Ångelholm-Weald", "Rowan Pettifer"]
ANSWERS = ["I can do that.", "Ja, gerne.", "D’accord pour moi.", "Thank you, that is a great help.", "Nee, dat lukt mij niet."]


def sentences(least):
    count = chance.randint(least, 9)
    return [chance.choice(SENTENCES).format(n=chance.randint(2, 99), m=chance.randint(100, 999)) for _ in range(count)]


def message(thread, number, who, before, plain=None, html=None, files=()):
    one = EmailMessage()
    host = who.split()[0].lower().encode("ascii", "ignore").decode()
    one["From"] = f"{who} <{host}@plots.example>"
    one["To"] = "secretary@saltmarshlane.example"
    one["Subject"] = f"{'Re: ' if number else ''}Matter {thread}"
    one["Date"] = format_datetime(now + timedelta(hours=7 * thread + number))
    one["Message-ID"] = f"<t{thread}.{number}@plots.example>"
    if before:
        one["In-Reply-To"] = before[-1]
        one["References"] = " ".join(before)
    if plain is not None:
        one.set_content(plain, cte=chance.choice(["quoted-printable", "base64", "8bit"]))
    if html is not None:
        if plain is None:
            one.set_content(html, subtype="html", cte="quoted-printable")
        else:
            one.add_alternative(html, subtype="html", cte="base64")
    for name, octets in files:
        one.add_attachment(octets, maintype="application", subtype="pdf", filename=name)
    inbox.add(one.as_bytes())
    return one["Message-ID"]


def marked(text, mark="> "):
    return "\n".join(mark + line for line in text.splitlines())


def head(thread, who):
    return chance.choice(HEADS).format(day=now.strftime("%d.%m.%Y %H:%M"), who=who, subject=f"Matter {thread}")


def html_of(text):
    return "<html><body>" + "".join(f"<p>{escape(line)}</p>" for line in text.splitlines()) + "</body></html>"


def blockquote(text):
    inner = "".join(f"<div>{escape(line)}</div>" for line in text.splitlines())
    return f"<blockquote type=\"cite\" style=\"margin:0\">{inner}</blockquote>"


# Each gives the letter and the answer, as keyword arguments of a message.
def below(text, lead, say):
    return dict(plain=text), dict(plain=f"{say}\n\n{lead}\n{marked(text)}\n")


def above(text, lead, say):
    return dict(plain=text), dict(plain=f"{lead}\n{marked(text)}\n\n{say}\n")


def unmarked_below(text, lead, say):
    return dict(plain=text), dict(plain=f"{say}\n\n{lead}\n{text}\n")


def wrapped(text, lead, say):
    return dict(plain=text), dict(plain=f"{say}\n\n{lead}\n{marked(fill(text, 40))}\n")


def wrapped_behind_the_mark(text, lead, say):
    return dict(plain=text), dict(plain=f"{say}\n\n{lead}\n{fill(marked(text), 33, break_long_words=False, break_on_hyphens=False)}\n")


def deeper(text, lead, say):
    return dict(plain=text), dict(plain=f"{say}\n\n{lead}\n{marked(text, '> > ')}\n")


def in_html(text, lead, say):
    return dict(html=html_of(text)), dict(html=f"<p>{escape(say)}</p><p>{escape(lead)}</p>{blockquote(text)}")


def html_of_plain(text, lead, say):
    return dict(plain=text), dict(plain=f"{say}\n\n{lead}\n{marked(text)}\n", html=f"<p>{escape(say)}</p>{blockquote(text)}")


def without_signature(text, lead, say):
    return dict(plain=f"{text}\n-- \nPlot {chance.randint(2, 99)}\nSaltmarsh Lane\n"), dict(plain=f"{say}\n\n{lead}\n{marked(text)}\n")


def between_the_lines(text, lead, say):
    lines = text.splitlines()
    at = len(lines) // 2
    return dict(plain=text), dict(plain="\n".join([marked("\n".join(lines[:at])), "", say, "", marked("\n".join(lines[at:])), ""]))


def with_its_file(text, lead, say):
    file = ("plan.pdf", chance.randbytes(400))
    return dict(plain=text, files=[file]), dict(plain=f"{say}\n\n{lead}\n{marked(text)}\n", files=[file])


# What a person would call quoted in full, and is changed so that a machine can't be sure.
def with_addresses_written_out(text, lead, say):
    word = text.split()[2]
    html = html_of(text).replace(escape(word), f'<a href="https://plots.example/{word}">{escape(word)}</a>', 1)
    return dict(html=html), dict(plain=f"{say}\n\n{lead}\n{marked(text.replace(word, f'{word} <https://plots.example/{word}>', 1))}\n")


def with_a_mark_of_the_list(text, lead, say):
    lines = text.splitlines()
    return dict(plain=text), dict(plain=f"{say}\n\n{lead}\n{marked(lines[0])}\n> [list 4]\n{marked(chr(10).join(lines[1:]))}\n")


# What looks quoted, and is not, or not all of it.
def cut_short(text, lead, say):
    return dict(plain=text), dict(plain=f"{say}\n\n{lead}\n{marked(chr(10).join(text.splitlines()[:-1]))}\n")


def without_its_middle(text, lead, say):
    lines = text.splitlines()
    del lines[len(lines) // 2]
    return dict(plain=text), dict(plain=f"{say}\n\n{lead}\n{marked(chr(10).join(lines))}\n")


def another_number(text, lead, say):
    text = f"{text}\nThe meter says 4711.\n"
    return dict(plain=text), dict(plain=f"{say}\n\n{lead}\n{marked(text.replace('4711', '4117'))}\n")


def another_word(text, lead, say):
    words = text.split(" ")
    words[len(words) // 2] = "never"
    return dict(plain=text), dict(plain=f"{say}\n\n{lead}\n{marked(' '.join(words))}\n")


def another_order(text, lead, say):
    return dict(plain=text), dict(plain=f"{say}\n\n{lead}\n{marked(chr(10).join(reversed(text.splitlines())))}\n")


def not_quoted(text, lead, say):
    return dict(plain=text), dict(plain=f"{say}\n{' '.join(sentences(3))}\n")


def without_its_file(text, lead, say):
    return dict(plain=text, files=[("plan.pdf", chance.randbytes(400))]), dict(plain=f"{say}\n\n{lead}\n{marked(text)}\n")


def with_another_file(text, lead, say):
    octets = chance.randbytes(400)
    other = octets[:-1] + bytes([octets[-1] ^ 1])
    return dict(plain=text, files=[("plan.pdf", octets)]), dict(plain=f"{say}\n\n{lead}\n{marked(text)}\n", files=[("plan.pdf", other)])


def without_its_link(text, lead, say):
    word = text.split()[2]
    html = html_of(text).replace(escape(word), f'<a href="https://plots.example/{word}">{escape(word)}</a>', 1)
    return dict(html=html), dict(plain=f"{say}\n\n{lead}\n{marked(text)}\n")


def more_in_html(text, lead, say):
    return dict(plain=text, html=html_of(f"{text}\nAnd the key is under the third pot.")), dict(plain=f"{say}\n\n{lead}\n{marked(text)}\n")


def short(text, lead, say):
    return dict(plain="Thank you!\n"), dict(plain=f"{say}\n\n{lead}\n> Thank you!\n")


FOUND = [below, above, unmarked_below, wrapped, wrapped_behind_the_mark, deeper, in_html, html_of_plain, without_signature, between_the_lines, with_its_file]
QUOTED = [with_addresses_written_out, with_a_mark_of_the_list]
NOT_QUOTED = [cut_short, without_its_middle, another_number, another_word, another_order, not_quoted, without_its_file, with_another_file, without_its_link, more_in_html, short]
KINDS = FOUND + QUOTED + NOT_QUOTED

truth = {"kinds": {}, "quoted": [kind.__name__ for kind in FOUND + QUOTED], "files": {}}
for thread in range(threads):
    kind = KINDS[thread % len(KINDS)]
    who, other = chance.sample(PEOPLE, 2)
    text = "\n".join(sentences(4)) + "\n"
    letter, answer = kind(text, head(thread, who), chance.choice(ANSWERS))
    first = message(thread, 0, who, [], **letter)
    message(thread, 1, other, [first], **answer)
    truth["kinds"][first] = kind.__name__

# Files mailed again, and others as long.
for number in range(files):
    octets = chance.randbytes(chance.randint(60_000, 90_000))
    times = chance.randint(2, 5)
    (folder / f"{number}").write_bytes(octets)
    (folder / f"{number}-other").write_bytes(octets[:-1] + bytes([octets[-1] ^ 1]))
    truth["files"][f"{number}"] = {"sha256": hashlib.sha256(octets).hexdigest(), "times": times}
    for time in range(times + 1):
        name = f"{number}" if time < times else f"{number}-other"
        message(100_000 + number * 10 + time, 0, chance.choice(PEOPLE), [], plain="Here it is.\n", files=[("list.pdf", (folder / name).read_bytes())])

print(json.dumps(truth))
