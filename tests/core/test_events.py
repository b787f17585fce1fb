"""Events: what they carry, and the one place that puts them into words; shares of 1 as people write them."""

import gettext
from string import Formatter

import pytest

from hemtra.core import events
from hemtra.core.events import CATALOGUE, Event, sentence
from hemtra.core.text import percent

FIELDS = {
    "differs": {"balloon": 7, "name": "Gap", "now": "0.51 mm", "then": "0.50 mm"},
    "error": {"fault": "ValueError: x"},
    "gone": {"balloon": 7, "name": "Gap"},
    "master failed": {"serial": "M1", "why": "6 Hub height reads 8.1"},
    "master for shift": {"serial": "M1", "shift": "06:00"},
    "master missing": {"serial": "M1"},
    "master overdue": {"serial": "M1", "hours": "9.0"},
    "master to come": {"serial": "M1"},
    "master passed": {"serial": "M1"},
    "refusing": {"why": "Master part M1 was never seen to pass; present it."},
    "new lot": {"lot": "2026-11-29 10:00"},
    "not forwarded": {"count": 2},
    "overrun": {"limit": 8},
    "server away": {"why": "The server does not answer."},
    "server back": {"count": 3},
}


@pytest.mark.parametrize("kind", CATALOGUE)
def test_every_event_is_a_sentence_of_its_fields(kind):
    asked = {name for _, name, _, _ in Formatter().parse(CATALOGUE[kind]) if name}
    assert asked == set(FIELDS.get(kind, {}))
    words = sentence(kind, FIELDS.get(kind, {}))
    assert "{" not in words
    assert all(str(value) in words for value in FIELDS.get(kind, {}).values())


def test_an_event_may_bring_its_own_words_and_an_unknown_one_says_its_name():
    assert Event("note", 1.0, fields={"text": "a {brace}"}).text == "a {brace}"
    assert Event("of a later version", 1.0, fields={"more": 1}).text == "of a later version"
    assert Event("new lot", 1.0, fields={"other": 1, "kind": "x"}).text == "new lot", (
        "its lot is not among them"
    )


def test_another_language_is_another_catalogue(monkeypatch):
    """What is looked up are patterns, so that words and their order may differ."""
    german = gettext.NullTranslations()
    known = {CATALOGUE["new lot"]: "Es beginnt Los {lot}."}
    monkeypatch.setattr(german, "gettext", lambda pattern: known.get(pattern, pattern))
    monkeypatch.setattr(events, "gettext", german.gettext)
    assert Event("new lot", 1.0, fields={"lot": "A"}).text == "Es beginnt Los A."
    assert Event("link", 1.0).text == CATALOGUE["link"]


@pytest.mark.parametrize(
    ("share", "digits", "words"),
    [(0.975, 1, "97.5 %"), (1.0, 0, "100 %"), (-1e-9, 1, "0.0 %"), (0.005, 0, "0 %"), (1.234, 2, "123.40 %")],
)
def test_a_share_is_written_with_a_space_and_no_negative_zero(share, digits, words):
    assert percent(share, digits) == words
