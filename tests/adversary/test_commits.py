"""What a commit can do: each row is pushed for real and run by a real runner, which works on afterwards.

docs/threat-model.md is made from these rows by a test beside them. A new attack is one row.
"""

from __future__ import annotations

import os
import time
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import pytest

from worlds import Repository, World, junit

KEPT = "what only this machine knows: high water at four"
HEAD = 'version = 1\n[jobs.unit]\nruntime = ["lua"]\nvary = { lua = ["5.4"] }\n'
COLLECT = 'collect = { tests = ["out/*.xml"] }\n'
GREEN = f"mkdir -p out; echo '{junit(a='passed')}' > out/a.xml"
RED = f"mkdir -p out; echo '{junit(a='adrift')}' > out/a.xml; exit 1"


@dataclass(frozen=True)
class Attack:
    """What is tried, by whom it is stopped, and what is seen. `steps` run one after another, the last one collects."""

    name: str
    answer: str  # how it is answered, for the table
    steps: tuple[str, ...]
    verdict: str = "clear"
    said: str = ""  # in the sentence or the log
    more: str = ""  # of the job
    of_step: str = ""  # of the last step
    never: str = ""  # never in the log


VICTIM = "@VICTIM@"
DEEP = "python3 -c \"import os\nfor i in range(1500): os.mkdir('d'); os.chdir('d')\""
LISTING = """\
import os, socket
rows = dict(line.split(":\\t") for line in open("/proc/self/status").read().splitlines() if ":\\t" in line)
mine, others, ports = os.getuid(), 0, []
for entry in os.listdir("/proc"):
    if entry.isdigit():
        try: others += os.stat("/proc/" + entry).st_uid not in (mine, 0) or (os.stat("/proc/" + entry).st_uid == 0 and entry != "1")
        except OSError: pass
for port in range(1, 65536):
    with socket.socket() as s:
        # a port of the range that connections begin from may connect to itself
        if s.connect_ex(("127.0.0.1", port)) == 0 and s.getsockname() != s.getpeername(): ports.append(port)
able = [f for f in os.listdir("/") if os.access("/" + f, os.W_OK) and f not in ("tmp", "workspace", "home")]
told = [k for k in os.environ if "TOKEN" in k or "KEY" in k or "DATABASE" in k]
print("uid", "own," if mine >= 1000 else "of the system,", "capabilities", rows["CapEff"].strip() + ", new privileges",
      "never," if rows["NoNewPrivs"].strip() == "1" else "possible,", "system calls",
      "filtered," if rows["Seccomp"].strip() == "2" else "all,", "processes of others", str(others) + ", ports of the loopback",
      ports or "none,", "writable at the root", ", ".join(able) or "none,", "secrets in the environment", told or "none")
"""
ATTACKS = [
    Attack(
        "A link in the place of the list of failed tests",
        "the list lies in a folder of the runner's, read-only inside",
        (f"for i in 1 2 3; do ln -s {VICTIM} /tmp/retest-$i; ln -s {VICTIM} /run/given/retest-$i; done; {RED}",),
        "held",
        "1 test newly fails",
        more="retry = { tests = 1 }\n",
    ),
    Attack(
        "A report that is a link",
        "links are not followed",
        (f"mkdir out; ln -s {VICTIM} out/a.xml",),
        "held",
        "no file matches out/*.xml",
    ),
    Attack(
        "A folder that a companion exchanges for a link while artifacts are kept",
        "companions end first; what is left is opened beneath the workspace only, as the slot's user",
        (f"sleep 1; {GREEN}",),
        more='artifacts = [{ files = ["keep/**", "other/**"] }]\n[jobs.unit.companions.swap]\n'
        "command = 'mkdir keep; echo mine > keep/passwd; ln -s /etc other; set +e; echo up; while :; do mv keep away; mv other keep; mv keep other; mv away keep; done'\n"
        'ready = { line = "up" }\n',
    ),
    Attack(
        "1,500 folders within each other",
        "walked and removed without recursion, as the slot's user",
        (f"{DEEP}; {GREEN}",),
        more='artifacts = [{ files = ["d/**"] }]\n',
    ),
    Attack(
        "Pipes and endless files where the runner looks for packages and settings",
        "only regular files are opened, by a program within the walls with a bound in time",
        (
            "mkdir -p node_modules/x node_modules/y; mkfifo pyvenv.cfg .env node_modules/x/package.json; "
            f"ln -s /dev/zero node_modules/y/package.json; ln -s /dev/zero a.env; {GREEN}",
        ),
        more='env = { TIDE = "low" }\n',
    ),
    Attack(
        "A report of 1 TB without a byte in it",
        "no file becomes longer than an attempt's files may be together",
        (f"{GREEN}; truncate -s 1T out/b.xml",),
        "held",
        "File size limit exceeded",
    ),
    Attack(
        "A report of 2 GiB without a byte in it",
        "bounded by its length before it is read",
        (f"{GREEN}; truncate -s 2G out/b.xml",),
        "held",
        "out/b.xml is larger than may be taken",
    ),
    Attack(
        "More reports than are taken",
        "none is taken: the one left out could be the failing one",
        ("mkdir out; seq 20001 | sed 's,.*,out/&.xml,' | xargs touch",),
        "held",
        "20,001 files match out/*.xml",
    ),
    Attack(
        "A fork bomb",
        "processes are bounded by user",
        ("f() { f | f & }; f & sleep 1; exit 3",),
        "held",
        "",
        more="limits = { processes = 100 }\n",
    ),
    Attack(
        "Output without end",
        "kept up to a bound, and said",
        (f"{GREEN}; head -c 30000000 /dev/zero | tr '\\0' 'x'",),
    ),
    Attack(
        "git's configuration in the workspace, with programs in it",
        "no git runs there after the checkout",
        (f"git config core.fsmonitor 'echo gone > {VICTIM}'; git config core.hooksPath .; {GREEN}",),
        more='artifacts = [{ files = [".git/**", "**/config"] }]\n',
        said="no file was kept for the artifact .git/**",
    ),
    Attack(
        "A step's folder that is a circle of links",
        "links are resolved without following them for ever",
        ("ln -s b a; ln -s a b", GREEN),
        "held",
        "there is no folder a in the workspace",
        of_step='folder = "a"\n',
    ),
    Attack(
        "A step's folder that leads out",
        "a folder outside the workspace is refused",
        ("ln -s /etc a", GREEN),
        "held",
        "leads out of the workspace",
        of_step='folder = "a"\n',
    ),
    Attack(
        "File names of every kind of byte",
        "kept, and shown as what they are",
        (f"{GREEN}; cp out/a.xml \"$(printf 'out/\\377\\033[2J\\n.xml')\"",),
        said="",
    ),
    Attack(
        "A hard link to a file of the machine",
        "there is none to link to: other mounts, other users",
        (f"mkdir out; ln {VICTIM} out/a.xml || ln /etc/passwd out/a.xml",),
        "held",
    ),
    Attack(
        "Reaching the server, the database, the neighbours",
        "the attempt's network leads outward only",
        (
            "python3 - <<'END'\nimport os, socket\nopen_ones = []\n"
            "for host in ('127.0.0.1', 'localhost', '10.0.2.2', os.environ.get('OWN', '127.0.0.1')):\n"
            "    for port in (@PORT@, @DATABASE@):\n"
            "        try: socket.create_connection((host, port), 2); open_ones.append((host, port))\n"
            "        except OSError: pass\n"
            f"print('reached', open_ones)\nEND\n{GREEN}",
        ),
        said="reached []",
    ),
    Attack(
        "Becoming somebody else",
        "no capabilities, no new privileges, no user namespaces",
        (f"id -u; unshare -r id; mount -t tmpfs x /tmp; su -c id; chroot / id; {GREEN}",),
        never="uid=0",
    ),
    Attack(
        "Looking at the machine",
        "other processes, users' folders and the server's files are not there",
        (f"ls /root /var/lib /work 2>&1; cat {VICTIM} /proc/1/environ; ps ax 2>/dev/null | wc -l; {GREEN}",),
        never=KEPT,
    ),
    Attack(
        "Listing all that can be seen and reached",
        "one user without capabilities, its own processes, no port of this machine",
        (f"python3 - <<'END'\n{LISTING}END\n{GREEN}",),
        said="uid own, capabilities 0000000000000000, new privileges never, system calls filtered, processes of others 0, "
        "ports of the loopback none, writable at the root none, secrets in the environment none",
    ),
    Attack(
        "Memory in many processes and in files of memory",
        "a control group holds all of an attempt together; else it is watched",
        (
            "for i in 1 2 3 4 5 6 7 8; do python3 -c 'x = b\"1\" * (20 << 20); import time; time.sleep(30)' & done; "
            f"head -c 60000000 /dev/zero > /dev/shm/tide; wait; {GREEN}",
        ),
        "held",
        "it took more than 100 MiB of memory",
        more='limits = { memory = "100 MiB" }\n',
    ),
    Attack(
        "Leaving a process behind",
        "everything ends with its step",
        (f"setsid sleep 600 & (while :; do echo gone > {VICTIM}; sleep 1; done) & {GREEN}",),
    ),
    Attack(
        "A pattern that takes for ever",
        "plans' patterns are matched by an automaton",
        (GREEN,),
        said="companion slow is ready",
        more="[jobs.unit.companions.slow]\ncommand = 'printf a%.0s $(seq 5000); echo; echo tide is up; sleep 600'\n"
        'ready = { line = "(a+)+b|tide is up" }\n',
    ),
    Attack(
        "A glob that takes for ever",
        "globs are matched in time linear in the path",
        (f"mkdir -p out; touch out/$(printf 'a%.0s' $(seq 200)); {GREEN}",),
        more='artifacts = [{ files = ["*a*a*a*a*a*a*a*a*b", "**/a*/**/a*/**/b"] }]\n',
    ),
]


@pytest.fixture(scope="module")
def victim() -> Iterator[Path]:
    """A file of the machine's, which only root may read."""
    file = Path("/var/tmp") / f"myriant-victim-{os.getpid()}-{time.monotonic_ns()}"
    file.write_text(KEPT)
    file.chmod(0o600)
    yield file
    file.unlink()


def plan_of(attack: Attack, world: World, victim: Path) -> str:
    database = world.installation.database.url.rpartition(":")[2].partition("/")[0]
    text = HEAD + attack.more
    for i, command in enumerate(attack.steps):
        last = i == len(attack.steps) - 1
        text += f"[[jobs.unit.steps]]\nname = 'step {i + 1}'\ncommand = '''\nset +e\n{command}\n'''\n"
        text += (attack.of_step + COLLECT) if last else ""
    if "[jobs.unit.companions" in attack.more:  # tables come after the job's own keys
        text = HEAD + attack.more.partition("[jobs.unit.companions")[0] + text[len(HEAD + attack.more) :]
        text += "[jobs.unit.companions" + attack.more.partition("[jobs.unit.companions")[2]
    replaced = {VICTIM: str(victim), "@PORT@": str(world.installation.port), "@DATABASE@": database}
    for mark, value in replaced.items():
        text = text.replace(mark, value)
    return text


def delivered(world: World, run: dict[str, Any]) -> bytes:
    """Every byte of every file that an attempt delivered."""
    attempt = world.get(f"/attempts/{run['cells'][0]['attempt_id']}")
    answers = [world.http.get(f"/attempts/{attempt['id']}/reports/{r['id']}") for r in attempt["reports"]]
    return b"".join(a.content for a in answers)


@pytest.fixture(scope="module")
def attacked(world: World) -> Repository:
    return world.repository("attacked", HEAD + f"[[jobs.unit.steps]]\ncommand = '''{GREEN}'''\n{COLLECT}", x="1")


@pytest.mark.parametrize("attack", ATTACKS, ids=lambda a: a.name)
def test_a_commit_reaches_nothing_beyond_its_room(
    world: World, attacked: Repository, victim: Path, attack: Attack
) -> None:
    before = put_aside(world)
    run = attacked.pushed({"myriant.toml": plan_of(attack, world, victim)}, attack.name)
    log = world.http.get(f"/attempts/{run['cells'][0]['attempt_id']}/log").text
    told = run["run"]["sentence"] + "\n" + log
    assert run["run"]["verdict"] == attack.verdict, told[-3000:]
    assert attack.said in told, told[-3000:]
    assert not attack.never or attack.never not in log, log[-3000:]
    assert victim.read_text() == KEPT
    everything = delivered(world, run)
    assert KEPT.encode() not in everything and b"root:x:0:0" not in everything
    assert not list(world.installation.place.work.glob("attempt-*")) or until_gone(world), "its room is gone"
    assert put_aside(world) == before


def put_aside(world: World) -> set[str]:
    """Rooms that could not be removed; other tests share the runner, and may have left some."""
    return {p.name for p in (world.installation.place.work / "aside").glob("*")}


def until_gone(world: World) -> bool:
    """Whether all rooms go, within a minute."""
    end = time.monotonic() + 60
    while list(world.installation.place.work.glob("attempt-*")) and time.monotonic() < end:
        time.sleep(0.1)
    return not list(world.installation.place.work.glob("attempt-*"))


def test_the_runner_works_on_afterwards(attacked: Repository) -> None:
    plain = HEAD + f"[[jobs.unit.steps]]\ncommand = '''{GREEN}'''\n{COLLECT}"
    assert attacked.pushed({"myriant.toml": plain, "last": "one"})["run"]["verdict"] == "clear"
