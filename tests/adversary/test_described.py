"""The whole API against its own description: whatever is sent, no answer is a 500, and answers have the form described.

Bounded in time, and reproducible: examples are drawn from a fixed seed.
"""

from __future__ import annotations

import os
from typing import Any
from zlib import crc32

import pytest
import schemathesis
from hypothesis import HealthCheck, Phase, settings
from schemathesis.checks import not_a_server_error, response_schema_conformance

from myriant.api.app import make_app
from myriant.flow.site import Site
from worlds import Repository, World, junit

PLAN = (
    'version = 1\n[jobs.unit]\nruntime = ["lua"]\nvary = { lua = ["5.4"] }\n[[jobs.unit.steps]]\n'
    f"command = '''mkdir -p out; echo '{junit(a='passed', b='adrift')}' > out/a.xml; exit 1'''\ncollect = {{ tests = ['out/a.xml'] }}\n"
)
LONG = int(os.environ.get("MYRIANT_SCHEMA_EXAMPLES", "0"))  # for each route, and every edge that is described
PHASES = [Phase.explicit, Phase.generate] if LONG else [Phase.generate]
KNOWN: dict[str, list[Any]] = {
    "project": ["asked"],
    "number": [1, 2],
    "attempt": [1],
    "test": [0, 1],
    "report": [1],
    "runner": [1],
    "branch": ["main"],
}


def described() -> Any:
    """The description, made without an installation."""
    app = make_app(Site(None, None, None, "http://localhost"))  # type: ignore[arg-type]
    return schemathesis.openapi.from_dict(app.openapi())


schema = described()


@pytest.fixture(scope="module")
def asked(world: World) -> Repository:
    return world.repository("asked", PLAN, x="1")


def no_answer_is_a_fault_of_the_server(world: World, asked: Repository, case: Any) -> None:
    for name, values in KNOWN.items():  # half of the time something that is there
        drawn = crc32(repr((name, case.path_parameters, case.query, case.body)).encode("utf-8", "surrogatepass"))
        if name in case.path_parameters and drawn % 2:
            case.path_parameters[name] = values[drawn // 2 % len(values)]
    if case.path.endswith("/live") or case.path.endswith("/claim"):
        pytest.skip("these wait")
    for token in (str(world.http.headers["Authorization"]), ""):
        drawn_headers = {k: v for k, v in (case.headers or {}).items() if k.lower() != "content-length"}
        case.headers = {**drawn_headers, "Authorization": token}
        answer = case.call(base_url=f"{world.address}", timeout=30)
        checks = [not_a_server_error, response_schema_conformance] if token else [not_a_server_error]
        case.validate_response(answer, checks=checks)
        assert "nosniff" in answer.headers["x-content-type-options"]


def of_route(method: str, path: str) -> Any:
    """The test of one route, under a name of its own: workers know tests by name."""

    def test(world: World, asked: Repository, case: Any) -> None:
        no_answer_is_a_fault_of_the_server(world, asked, case)

    bounds = settings(
        max_examples=LONG or 3,
        deadline=None,
        derandomize=True,
        database=None,
        phases=PHASES,
        suppress_health_check=list(HealthCheck),
    )
    return schema.include(method=method, path=path).parametrize()(bounds(test))


ROUTES = [(method.upper(), path) for path, ways in schema.raw_schema["paths"].items() for method in ways]
for _method, _path in ROUTES:
    globals()[f"test_{_method}_{_path}"] = of_route(_method, _path)


def test_every_route_is_asked() -> None:
    assert len(ROUTES) >= 148 and len({name for name in globals() if name.startswith("test_")}) == len(ROUTES) + 1
