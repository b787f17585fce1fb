"""Offers under a resting pointer, and new characteristics of every kind, in the real window."""

import pytest
from PySide6.QtCore import QPoint, Qt
from test_window import LEFT, pixel, values

from hemtra.core.proposals.option import options
from hemtra.desktop.plan.commands.new_characteristic import prompts


def rest(qtbot, stage, x, y):
    """The pointer comes to rest on a place."""
    at = pixel(stage, x, y)
    qtbot.mouseMove(stage, at - QPoint(4, 4))
    qtbot.mouseMove(stage, at)
    qtbot.waitUntil(lambda: stage.offers.offer is not None, timeout=120_000)
    stage.grab()
    return stage.offers.offer


def test_what_lies_under_the_pointer_is_offered_and_taken(demo, qtbot, settled):
    stage, bench = demo.workspaces["plan"].workspace.stage, demo.session.bench
    bench.select(13)
    settled(demo)
    offer = rest(qtbot, stage, 42.0, 19.2)
    assert offer.text.startswith("boss ⌀ 12.0")
    qtbot.mouseClick(stage, LEFT, pos=pixel(stage, 42.0, 19.2))
    settled(demo)
    assert bench.row.name == "Diameter, Boss NE rim"
    assert values(demo)[bench.balloon].value == pytest.approx(12.0, abs=0.05)
    offer = rest(qtbot, stage, 35.0, -4.0)
    assert "level -2.5" in offer.text
    assert "from Plane A, flange" in offer.text
    qtbot.mouseMove(stage, pixel(stage, 10.0, -25.0))
    # what is offered goes with the pointer
    qtbot.waitUntil(lambda: stage.offers.offer is None, timeout=120_000)


@pytest.mark.parametrize("way", ["map", "profile"])
def test_every_option_has_a_letter_and_a_command_that_is_called_as_it_is(demo, way):
    offered = options(way)
    assert len({wanted.key for wanted in offered}) == len(offered)
    for wanted in offered:
        command = demo.actions_by_id[f"characteristic.{wanted.id}"]
        assert wanted.name.lower() in command.title
        # the demo's plan evaluates parts as a whole
        assert command.enabled() == ("map" in wanted.on)


def test_every_option_says_what_to_click(demo, qtbot):
    new, stage = demo.workspaces["plan"].workspace.new, demo.workspaces["plan"].workspace.stage
    for wanted in options("map"):
        if wanted.clicks:
            new.ask()
            qtbot.keyClick(new.chooser, wanted.key.lower())
            assert stage.prompt == prompts(wanted)[0]
            assert wanted.clicks[0] in stage.prompt
            qtbot.keyClick(stage, Qt.Key.Key_Escape)
            assert stage.prompt == ""


def test_a_click_on_the_wrong_thing_says_what_to_click(demo, settled):
    demo.trigger("characteristic.diameter")
    demo.workspaces["plan"].workspace.stage.place_picked.emit(24.0, -16.0)
    settled(demo)
    assert demo.message_bar.text.text().startswith(
        "There is flat surface where you clicked; click inside a hole"
    )
    demo.trigger("characteristic.formula")
    settled(demo)
    assert demo.session.bench.row.name.startswith("Formula")


def test_colours_fit_the_zone_and_the_part_again(demo, settled):
    legend, bench = demo.workspaces["plan"].workspace.stage.legend, demo.session.bench
    bench.select(11)
    bench.select_step("pocket-floor")
    settled(demo)
    whole = legend.span
    demo.trigger("view.stretch")
    low, high = legend.span
    assert -2.8 < low < high < -2.3
    demo.trigger("view.stretch")
    assert legend.span == whole
