"""Prints every file of a WebDAV folder as Python's own http.client and ElementTree see it: SHA-256, size, and path, a line each.

The address, user and password come as JSON on standard input. Basic (RFC 7617).
"""

import base64
import hashlib
import http.client
import json
import sys
import urllib.parse
import xml.etree.ElementTree as ElementTree

asked = json.load(sys.stdin)
place = urllib.parse.urlsplit(asked["url"])
token = base64.b64encode(f"{asked['user']}:{asked['password']}".encode()).decode()
connection = http.client.HTTPConnection(place.hostname, place.port)


def ask(method, path, **headers):
    connection.request(method, path, headers={"Authorization": f"Basic {token}", **headers})
    answer = connection.getresponse()
    return answer.status, answer.read()


def walk(folder):
    status, body = ask("PROPFIND", folder, Depth="1")
    assert status == 207, status
    for response in ElementTree.fromstring(body).iter("{DAV:}response"):
        path = response.findtext("{DAV:}href")
        if path.rstrip("/") == folder.rstrip("/"):
            continue
        if response.find(".//{DAV:}collection") is not None:
            walk(path)
            continue
        size = int(response.findtext(".//{DAV:}getcontentlength"))
        status, octets = ask("GET", path)
        assert status == 200 and len(octets) == size, (status, len(octets), size)
        name = urllib.parse.unquote(path[len(place.path):], errors="surrogateescape")
        sys.stdout.write(json.dumps([hashlib.sha256(octets).hexdigest(), size, name]) + "\n")


walk(place.path)
