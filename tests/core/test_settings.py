"""Settings: a wrong one is said with its name, its value and the mend; the page of them is what the code reads."""

from __future__ import annotations

import re
from pathlib import Path

import pytest

from myriant.settings import WrongSetting, misspelt, page, settings

ROOT = Path(__file__).parents[2]


@pytest.mark.parametrize(
    ("name", "value", "said"),
    [
        ("POLL_SECONDS", "soon", "MYRIANT_POLL_SECONDS is 'soon': "),
        ("POLL_SECONDS", "0", "greater than 0"),
        ("MOST_MEMORY", "-1", "greater than or equal to 0"),
        ("LOG", "LOUD", "MYRIANT_LOG is 'LOUD'"),
        ("MAIL_SERVER", "mail.example", "it must begin with smtp:// or smtps://"),
        ("SERVER", "tide.example", "it must begin with http:// or https://"),
    ],
)
def test_a_wrong_value_is_said_with_its_variable_and_what_it_means(
    monkeypatch: pytest.MonkeyPatch, name: str, value: str, said: str
) -> None:
    monkeypatch.setenv(f"MYRIANT_{name}", value)
    with pytest.raises(WrongSetting) as found:
        settings()
    assert said in str(found.value) and found.value.mend


def test_a_value_holds_from_the_moment_it_is_set_and_an_empty_one_is_none(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("MYRIANT_POLL_SECONDS", "7")
    assert settings().poll_seconds == 7
    monkeypatch.setenv("MYRIANT_POLL_SECONDS", "")
    assert settings().poll_seconds == 30


def test_a_name_that_is_no_setting_is_pointed_out_but_not_inside_a_step(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("MYRIANT_POL_SECONDS", "7")
    assert misspelt() == ["MYRIANT_POL_SECONDS is no setting; did you mean MYRIANT_POLL_SECONDS?"]
    monkeypatch.setenv("MYRIANT_RUN", "3")
    assert misspelt() == []


def test_the_page_of_settings_is_what_the_code_reads() -> None:
    assert (ROOT / "docs/settings.md").read_text() == page(), "write it: python -m myriant.settings > docs/settings.md"


def test_nothing_else_reads_our_variables() -> None:
    alone = {"settings.py", "hook.py"}  # a hook runs without our code
    reading = re.compile(r"environ(?:\.get\(|\[)\s*[\"'](MYRIANT_\w+)")
    found = {
        str(p.relative_to(ROOT)): names
        for p in (ROOT / "src/myriant").rglob("*.py")
        if p.name not in alone
        and "demo/tidebook" not in str(p)
        and (names := [n for n in reading.findall(p.read_text()) if "=" not in n])
    }
    assert found == {}
