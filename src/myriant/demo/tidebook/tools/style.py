"""A small style check: long lines, tabs, trailing blanks, missing docstrings; one case a file as JUnit XML."""

import ast
import os
import sys
from xml.sax.saxutils import quoteattr


def complaints(path):
    with open(path, encoding="utf-8") as file:
        text = file.read()
    for number, line in enumerate(text.split("\n"), 1):
        if len(line) > 130:
            yield "%s:%d: %d characters" % (path, number, len(line))
        if "\t" in line or line != line.rstrip():
            yield "%s:%d: a tab or blanks at the end" % (path, number)
    if ast.get_docstring(ast.parse(text)) is None and text.strip():
        yield "%s:1: no docstring" % path


files = sorted(
    os.path.join(folder, name)
    for top in ("tidebook", "tests")
    for folder, _, names in os.walk(top)
    for name in names
    if name.endswith(".py")
)
rows, bad = [], 0
for path in files:
    found = list(complaints(path))
    bad += bool(found)
    body = "<failure message=%s/>" % quoteattr(found[0]) if found else ""
    rows.append('<testcase classname="style" name=%s>%s</testcase>' % (quoteattr(path), body))
    for line in found:
        print(line)
os.makedirs("out", exist_ok=True)
with open("out/style.xml", "w", encoding="utf-8") as report:
    report.write('<testsuite name="style">%s</testsuite>' % "".join(rows))
print("%d files, %d with complaints" % (len(files), bad))
sys.exit(1 if bad else 0)
