"""What people are told when the disk service refuses, or goes away; what it is asked at the end."""

from __future__ import annotations

import pytest

from mosscrate.core.errors import MediumError
from mosscrate.core.slots import Shelf
from mosscrate.core.slots.service import MustAsk, Service
from tests.cards import MIB, handheld
from tests.devices.service import needs_bus, private_bus
from tests.devices.standin import standing_in
from tests.loops import loop, needs_root

pytestmark = [needs_root, needs_bus]
UDISKS, DBUS = "org.freedesktop.UDisks2.Error", "org.freedesktop.DBus.Error"


@pytest.fixture
def service(tmp_path):
    (tmp_path / "card.img").write_bytes(handheld(40 * MIB).data)
    with loop(tmp_path / "card.img") as device, private_bus(tmp_path), standing_in(device) as service:
        yield service


@pytest.mark.parametrize(("error", "kind", "words"), [
    (f"{UDISKS}.NotAuthorized", MediumError, "does not let you use Pipkin.*rules .polkit. refuse it"),
    (f"{UDISKS}.NotAuthorizedCanObtain", MustAsk, "Permission is needed for Pipkin.*no password dialog"),
    (f"{UDISKS}.NotAuthorizedDismissed", MediumError, "closed without an answer. Nothing was done to Pipkin"),
    (f"{UDISKS}.DeviceBusy", MediumError, "Pipkin is in use by the system"),
    (f"{UDISKS}.TimedOut", MediumError, "Pipkin did not answer in time"),
    (f"{UDISKS}.Failed", MediumError, "Pipkin cannot be used: No"),
    (f"{DBUS}.UnknownObject", MediumError, "Pipkin is no longer there"),
    (f"{DBUS}.NoReply", MediumError, "disk service has ended, or is not installed")])
def test_each_refusal_is_a_sentence_of_its_own(service, error, kind, words):
    service.refusals["OpenDevice"] = error
    with pytest.raises(kind, match=words):
        Service().open(service.card, "Pipkin", writable=True, exclusive=True, may_ask=True)


def test_a_device_that_goes_in_the_middle_is_told(service):
    del service.objects[list(service.objects)[-1]]
    with pytest.raises(MediumError, match="Pipkin is no longer there"):
        Service().open(service.card, "Pipkin", writable=False, exclusive=False, may_ask=False)


def test_a_card_is_ejected_from_its_slot_and_a_drive_switched_off(service):
    shelf = Shelf()
    card = shelf.find(str(service.card))
    assert [slot.reader for slot in shelf.empty_slots()] == ["Wren Double reader"]
    assert "is ejected. You can take it out now." in shelf.eject(card)
    drive = next(iter(service.objects.values()))["org.freedesktop.UDisks2.Drive"]
    drive["MediaRemovable"] = ("b", False)
    assert "is switched off. You can take it out now." in shelf.eject(card)
    assert [call for call in service.calls if call in ("Eject", "PowerOff")] == ["Eject", "PowerOff"]
    service.refusals["PowerOff"] = f"{UDISKS}.DeviceBusy"
    with pytest.raises(MediumError, match="is in use by the system"):
        shelf.eject(card)
