"""Cards in readers at the window: they come and go, are asked for, unmounted, planned with and ejected."""

from __future__ import annotations

import subprocess
from contextlib import contextmanager
from dataclasses import dataclass, replace

import pytest

from mosscrate.core.slots import Source
from mosscrate.core.slots.medium import Slot
from mosscrate.core.slots.service import MustAsk
from mosscrate.core.slots.sysfs import EmptySlot
from tests.cards import MIB, handheld
from tests.loops import loop, needs_root


@pytest.fixture
def volume(tmp_path):
    with (tmp_path / "state.img").open("wb") as file:
        file.truncate(60 * MIB)
    subprocess.run(["mkfs.ext4", "-q", tmp_path / "state.img"], check=True)
    return tmp_path / "state.img"


@needs_root
def test_a_card_that_comes_or_goes_is_on_the_shelf_at_once(person, tmp_path):
    model = person.window.model
    model._poll.stop()                                    # only what is told counts here
    (tmp_path / "handheld.img").write_bytes(bytes(handheld().data))
    with loop(tmp_path / "handheld.img") as device:
        person.wait(lambda: device in [m.path for m in model.media], seconds=3)
    person.wait(lambda: device not in [m.path for m in model.media], seconds=3)


@needs_root
def test_a_mounted_card_is_unmounted_from_the_guard_and_the_plan_stays(person, volume, tmp_path):
    window = person.window
    with loop(volume) as device, held_at(device, tmp_path / "place"):
        person.plan("Worn card", mounted_card(person, device).name)
        guard = window.move_.guard_panel
        person.wait(lambda: guard.unmount_button.isVisible())
        assert not guard.entry.field.isEnabled()
        steps = window.move_.plan.sheet.steps
        person.acts = 0
        person.click(guard.unmount_button)
        person.wait(lambda: guard.entry.field.isEnabled() and window.move_.plan is not None
                    and window.model.asker.is_idle)
        assert (person.acts, window.move_.plan.sheet.steps) == (1, steps)
        assert not guard.unmount_button.isVisible()


def mounted_card(person, device):
    """The card, once the window knows that it is mounted."""
    model = person.window.model
    model._poll.stop()                                    # only what is told counts here
    person.wait(lambda: model.asker.is_idle and any(m.path == device and m.in_use for m in model.media), seconds=5)
    return next(m for m in model.media if m.path == device)


@contextmanager
def held_at(device, place):
    """Mounted by somebody; the window may unmount it before the end."""
    place.mkdir()
    subprocess.run(["mount", device, place], check=True)
    try:
        yield
    finally:
        subprocess.run(["umount", place], check=False, capture_output=True)


@needs_root
def test_a_card_is_unmounted_and_ejected_from_look(person, volume, tmp_path):
    window = person.window
    with loop(volume) as device, held_at(device, tmp_path / "place"):
        person.pick_card(mounted_card(person, device).name)
        strip, said = window.look.reader, []
        window.model.said.connect(said.append)
        assert f"Mounted at {tmp_path / 'place'}" in strip.how.text()
        person.click(strip.unmount_button)
        person.wait(lambda: not strip.unmount_button.isVisible())
        assert strip.how.text() == "Nothing of it is mounted."
        person.click(strip.eject_button)
        person.wait(lambda: len(said) == 2)
        assert "take it out now" in said[1]


def test_a_card_that_must_be_asked_for_is_only_opened_when_the_person_says_so(person, monkeypatch):
    window, shelf = person.window, person.window.model.bench.shelf
    card = replace(shelf.find("Worn card"), source=Source.READER, slot=_Locked(shelf.find("Worn card").slot))
    monkeypatch.setattr(shelf, "media", lambda: [card])
    window.model.refresh()
    person.wait(lambda: len(window.model.media) == 1 and window.model.asker.is_idle)
    person.pick_card("Worn card")
    assert window.model.seen[card.key].must_ask
    assert window.look.reader.ask_button.isVisible()
    person.click(window.look.reader.ask_button)
    person.wait(lambda: window.model.layout_of(card) is not None)
    assert not window.look.reader.ask_button.isVisible()


@dataclass
class _Locked:
    """A slot whose card is only opened for a person who was asked."""

    inner: Slot

    def open(self, medium, access):
        if not medium.may_ask:
            raise MustAsk("Permission is needed.")
        return self.inner.open(medium, access)


def test_empty_slots_stand_on_the_shelf_as_places(person):
    window = person.window
    window.model._take_found((window.model.media, [EmptySlot("Wren Double reader")]))
    shelf = window.look.shelf
    assert shelf.item(shelf.count() - 1).text() == "Empty slot of Wren Double reader"
    assert shelf.count() == len(window.model.media) + 1
