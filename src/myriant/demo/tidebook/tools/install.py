"""Makes .venv with pytest and coverage from wheels that are already on this machine; no network.

Where the wheels stand unpacked and compiled as well, these files are taken.
"""

import glob
import os
import shutil
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
ready = os.path.join(os.path.dirname(wheels[0]), "ready")
if os.path.isdir(ready):
    for name in os.listdir(ready):
        source = os.path.join(ready, name)
        (shutil.copytree if os.path.isdir(source) else shutil.copy2)(source, os.path.join(site, name))
else:
    for wheel in wheels:
        with zipfile.ZipFile(wheel) as archive:
            archive.extractall(site)
print("%d wheels for Python %s" % (len(wheels), version))
