"""Fifty shapes in which a step lets a secret out; none is visible anywhere."""

from __future__ import annotations

import base64
import io
import zipfile
from typing import Any

import pytest

from myriant.runner.masking import Masker
from worlds import World

SECRET = "Fen-tide/7 ü$é+\"q'&<x>"
KEY = (
    "-----BEGIN TIDE KEY-----\n"
    + "\n".join(f"MIIEogIBAAKCAQEAtide{i:02d}Xq7ZzPlover" for i in range(12))
    + "\n-----END TIDE KEY-----"
)
# each is a Python program that prints `s` (the value) in some shape
SHAPES = [
    "print(s)",
    "print('before' + s + 'after')",
    "print(s, file=sys.stderr)",
    "sys.stdout.write(s[:5]); sys.stdout.flush(); time.sleep(0.5); print(s[5:])",
    "[(sys.stdout.write(c), sys.stdout.flush(), time.sleep(0.01)) for c in s]",
    "print('\\n'.join(s))",
    "print(' '.join(s))",
    "print(','.join(s))",
    "print('-'.join(s))",
    "print(s[::-1])",
    "print(s.upper())",
    "print(s.lower())",
    "print(repr(s))",
    "print(json.dumps(s))",
    "print(json.dumps({'key': [s]}))",
    "print(json.dumps(s, ensure_ascii=False))",
    "print(ascii(s))",
    "print(base64.b64encode(s.encode()).decode())",
    "print(base64.b64encode(('user:' + s).encode()).decode())",
    "print(base64.b64encode(('u:' + s + ':x').encode()).decode())",
    "print(base64.b64encode(('ab' + s).encode()).decode())",
    "print(base64.urlsafe_b64encode(s.encode()).decode())",
    "print(base64.encodebytes(s.encode()).decode())",
    "print(base64.b32encode(s.encode()).decode())",
    "print(base64.b85encode(s.encode()).decode())",
    "print(s.encode().hex())",
    "print(s.encode().hex().upper())",
    "print(s.encode().hex(' '))",
    "print(s.encode().hex(':'))",
    "print(s.encode().hex('-'))",
    "print(urllib.parse.quote(s))",
    "print(urllib.parse.quote(s, safe=''))",
    "print(urllib.parse.quote_plus(s))",
    "print(urllib.parse.quote(urllib.parse.quote(s, safe=''), safe=''))",
    "print(urllib.parse.quote(s, safe='').lower())",
    "print('http://x/?a=' + urllib.parse.quote_plus(s) + '&b=1')",
    "print(html.escape(s))",
    "print(xml.sax.saxutils.escape(s))",
    "print(''.join('&#%d;' % ord(c) for c in s))",
    "print(''.join('&#x%x;' % ord(c) for c in s))",
    "print(''.join('\\\\u%04x' % ord(c) for c in s))",
    "print(''.join('\\\\x%02x' % b for b in s.encode()))",
    "print(''.join('\\\\%03o' % b for b in s.encode()))",
    "print(''.join('%%%02X' % b for b in s.encode()))",
    "sys.stdout.buffer.write(s.encode('utf-16-le'))",
    "sys.stdout.buffer.write(s.encode('utf-16-be'))",
    "print(codecs.encode(s, 'rot13'))",
    "print(shlex.quote(s))",
    "print(s.replace(chr(39), chr(39) * 2))",
    "print('\\x1b[31m' + '\\x1b[0m\\x1b[32m'.join(s))",
    "print('progress 1\\r' + s + '\\rdone')",
    "print(s * 3)",
    "raise SystemExit('died of ' + s)",
    'os.system(\'echo "$TIDE_KEY"; set -x; : "$TIDE_KEY"\')',
]
PROGRAM = """\
import ast, base64, codecs, html, json, os, shlex, sys, time, urllib.parse, xml.sax.saxutils
n, s = int(sys.argv[1]), os.environ["TIDE_KEY"]
shape = json.load(open("shapes.json"))[n]
print("\\nshape", n, flush=True)
exec(shape)
"""
PLAN = """\
version = 1
[jobs.leak]
secrets = ["TIDE_KEY", "TIDE_PEM"]
artifacts = [{ files = ["out/**"] }]
describe = ["echo tool of $TIDE_KEY"]
[[jobs.leak.steps]]
name = "print"
command = "i=0; while [ $i -lt %d ]; do /usr/bin/python3 -I leak.py $i || true; i=$((i+1)); done; echo \\"$TIDE_PEM\\"; echo \\"$TIDE_PEM\\" | base64; env"
[[jobs.leak.steps]]
name = "report"
command = "/usr/bin/python3 -I report.py; exit 1"
collect = { tests = ["out/unit.xml"], attachments = ["out/shot.txt"] }
[jobs.leak.companions.tide]
command = "echo companion says $TIDE_KEY; sleep 300"
ready = { line = "companion says" }
"""
REPORT = """\
import os, xml.sax.saxutils as x
s = os.environ["TIDE_KEY"]
os.makedirs("out", exist_ok=True)
open("out/unit.xml", "w").write('<testsuite><testcase name=%s><failure message=%s>%s</failure></testcase></testsuite>'
    % (x.quoteattr("logs in with " + s), x.quoteattr("refused " + s), x.escape("trace\\n" + s)))
open("out/shot.txt", "w").write("a picture of " + s)
open("out/kept.txt", "w").write("harmless")
open("out/leak.bin", "wb").write(b"\\0" + s.encode())
open("out/" + s.replace("/", "%2F"), "w").write("its name tells")
"""


def everything(world: World, project: str, run: dict[str, Any]) -> list[tuple[str, bytes]]:
    """All that the API gives of a run, whoever asks."""
    number, attempt = run["run"]["number"], run["cells"][0]["attempt_id"]
    paths = [
        f"/projects/{project}/runs/{number}",
        f"/projects/{project}/runs/{number}/findings",
        f"/projects/{project}/runs/{number}/timeline",
        f"/attempts/{attempt}",
        f"/attempts/{attempt}/record",
        f"/attempts/{attempt}/log",
        f"/attempts/{attempt}/log/raw",
        f"/attempts/{attempt}/log/lines?count=2000",
        f"/attempts/{attempt}/log/usual",
        f"/projects/{project}/secrets",
        f"/projects/{project}/strip",
        "/desk",
        "/runners",
    ]
    found = [(path, world.http.get(path).content) for path in paths]
    reports = world.get(f"/attempts/{attempt}")["reports"]
    found += [(r["path"], world.http.get(f"/reports/{r['id']}/raw").content) for r in reports]
    with zipfile.ZipFile(io.BytesIO(world.http.get(f"/attempts/{attempt}/files").content)) as archive:
        found += [(f"zip {name}", archive.read(name)) for name in archive.namelist()]
    return found


def test_no_shape_of_a_secret_is_visible_anywhere(world: World) -> None:
    import json

    repo = world.repository("leaky", None)
    for name, value in (("TIDE_KEY", SECRET), ("TIDE_PEM", KEY)):
        assert world.http.put(f"/projects/leaky/secrets/{name}", json={"value": value}).status_code == 204
    files = {"leak.py": PROGRAM, "shapes.json": json.dumps(SHAPES), "report.py": REPORT}
    run = repo.pushed({"myriant.toml": PLAN % len(SHAPES), **files}, within=90)
    log = world.http.get(f"/attempts/{run['cells'][0]['attempt_id']}/log").text
    assert len(SHAPES) >= 50 and f"shape {len(SHAPES) - 1}" in log and "***TIDE_KEY***" in log
    masker = Masker({"K": SECRET, "P": KEY})
    leaks = [(where, data[:300]) for where, data in everything(world, "leaky", run) if masker.mask(data) != data]
    assert leaks == []
    plain = {SECRET, SECRET[::-1], base64.b64encode(SECRET.encode()).decode().rstrip("="), SECRET.encode().hex()}
    for where, data in everything(world, "leaky", run):
        assert not [p for p in plain if p.encode() in data], where
    lines = log.split("\n")
    for n in range(len(SHAPES)):  # every shape left a star and not its value
        begin = lines.index(f"shape {n}")
        block = "\n".join(
            lines[begin + 1 : lines.index(f"shape {n + 1}")] if n + 1 < len(SHAPES) else lines[begin + 1 :]
        )
        assert "*" in block, (n, SHAPES[n], block)
    kept = {r["path"]: r["content"] for r in world.get(f"/attempts/{run['cells'][0]['attempt_id']}")["reports"]}
    assert "out/kept.txt" in kept and "out/leak.bin" not in kept and "out/shot.txt" not in kept
    assert "out/leak.bin holds a secret and is not kept" in log
    assert "out/shot.txt holds a secret and is not kept" in log, "an attachment too"
    assert "***TIDE_KEY***" in repo.note(run["run"]["commit"])
    database = world.site
    assert database is not None
    from sqlalchemy import text

    with database.store.transaction() as session:
        sealed = session.execute(text("SELECT sealed FROM secret")).scalars().all()
    assert all(SECRET.encode() not in bytes(s) for s in sealed)


@pytest.mark.parametrize("cut", range(1, 12))
def test_a_secret_is_masked_wherever_the_stream_is_cut(cut: int) -> None:
    text = (
        b"a "
        + SECRET.encode()
        + b" b "
        + base64.b64encode(b"x:" + SECRET.encode())
        + b" c\n"
        + KEY.encode()
        + b" plain\n"
    )
    masker = Masker({"K": SECRET, "P": KEY})
    out = b"".join(masker.feed(text[i : i + cut]) for i in range(0, len(text), cut)) + masker.end()
    assert masker.mask(out) == out and out.startswith(b"a ***K*** b ") and out.endswith(b" plain\n")
    assert SECRET.encode() not in out and b"MIIEogIBAAKCAQEAtide" not in out
