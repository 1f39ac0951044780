"""Makes .venv with pytest and coverage from wheels that are already on this machine; no network."""

import glob
import os
import subprocess
import sys
import zipfile

version = "%d.%d" % sys.version_info[:2]
places = [p for p in os.environ.get("MYRIANT_SHARED", "").split(":") if p]
wheels = [w for p in places for w in glob.glob(os.path.join(p, version, "*.whl"))]
if not wheels:
    sys.exit("no wheels for Python %s in MYRIANT_SHARED=%s" % (version, ":".join(places)))
subprocess.check_call([sys.executable, "-m", "venv", "--without-pip", ".venv"])
site = glob.glob(".venv/lib/python*/site-packages")[0]
for wheel in wheels:
    with zipfile.ZipFile(wheel) as archive:
        archive.extractall(site)
print("%d wheels for Python %s" % (len(wheels), version))
