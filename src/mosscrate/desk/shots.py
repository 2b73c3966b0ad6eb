"""Pictures of every main view, from the demo bench: `./moss shots [FOLDER]`."""

from __future__ import annotations

import os
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")

from PyQt6.QtWidgets import QApplication, QPushButton, QWidget

from mosscrate.core.images.drive_file import Facts
from mosscrate.core.images.making import kind_of
from mosscrate.core.slots import Medium
from mosscrate.core.watch import Watch
from mosscrate.demo import library
from mosscrate.demo.cards import bench_at
from mosscrate.desk import theme
from mosscrate.desk.app import make_application
from mosscrate.desk.move.station import MoveStation
from mosscrate.desk.window import FILL, KEEP, LOOK, MOVE, PROOF, MainWindow


class Photographer:
    """Drives a real window through its widgets and takes pictures."""

    def __init__(self, folder: Path, bench_folder: Path, *, theme_name: str = "dark") -> None:
        self.folder = folder
        folder.mkdir(parents=True, exist_ok=True)
        self.app = QApplication.instance() or make_application(["shots"], theme_name)
        assert isinstance(self.app, QApplication), "a window needs a graphical application"
        theme.apply(self.app, theme.wanted_theme(theme_name))
        self.window = MainWindow(lambda: bench_at(bench_folder))
        self.window.furnish()
        self.window.resize(1280, 800)
        self.window.show()
        self.settle()

    def settle(self, ready: Callable[[], bool] | None = None, seconds: float = 300.0) -> None:
        """Let the window work until it is idle (and `ready`). Raises TimeoutError: no picture shows half of it."""
        until = time.monotonic() + seconds
        while time.monotonic() < until:
            self.app.processEvents()
            time.sleep(0.01)
            if self.window.model.asker.is_idle and (ready is None or ready()):
                break
        else:
            raise TimeoutError("the window is not as it is to be shown")
        for _ in range(5):
            self.app.processEvents()

    def press(self, place: QWidget, title: str) -> None:
        """Click the button of that name."""
        self.settle()
        next(b for b in reversed(place.findChildren(QPushButton)) if b.text() == title).click()

    def open_act(self, title: str) -> None:
        """Open the form of something that can be planned, from the list where it stands."""
        self.settle()
        panel = self.window.move_.arrange_panel
        panel.open_form(next(act for act in panel.acts if act.title == title))

    def look_at(self, name: str) -> None:
        """Choose a medium on the shelf."""
        self.window.model.select(_medium(self.window, name))
        self.settle()

    def plan(self, source: str, target: str = "New 8 GB card") -> MoveStation:
        """Choose both sides on Move and wait for the plan."""
        move = self.window.move_
        self.window.go_to(MOVE)
        move.choose_source(_medium(self.window, source))
        move.choose_target(_medium(self.window, target))
        self.settle(lambda: move.plan is not None)
        return move

    def take(self, name: str) -> None:
        """Save what the window shows."""
        self.window.grab().save(str(self.folder / f"{name}.png"))


def main() -> None:
    """Make docs/screenshots anew."""
    folder = Path(sys.argv[1]) if len(sys.argv) > 1 else Path("docs/screenshots")
    with tempfile.TemporaryDirectory(prefix="mosscrate-shots-") as bench:
        journey(Photographer(folder, Path(bench)))
        growing(Photographer(folder, Path(bench)))
        meant_for(Photographer(folder, Path(bench)))
        arranging(Photographer(folder, Path(bench)))
        preparing(Photographer(folder, Path(bench)))
        bringing_over(Photographer(folder, Path(bench)))
        vintage(Photographer(folder, Path(bench)))
        converting(Photographer(folder, Path(bench)))
        files(Photographer(folder, Path(bench)))
        packed(Photographer(folder, Path(bench)), Path(bench))
        proof(Photographer(folder, Path(bench)))
        filling(Photographer(folder, Path(bench)))
        light = Photographer(folder, Path(bench), theme_name="light")
        light.look_at("Pipkin owner’s spare")
        light.take("look-light")
        light.window.close()


def packed(p: Photographer, bench: Path) -> None:
    """A release in an archive, before it was read through."""
    w, path = p.window, bench / "pipkin-release-3.img.gz"
    card = _medium(w, "Pipkin bench card")
    with card.open() as blocks:
        kind_of("gz").make(blocks, path, Facts(), Watch())
    w.model.open_image(path)
    p.settle()
    p.take("look-packed")
    w.close()


def journey(p: Photographer) -> None:
    """The migration, station by station."""
    w = p.window
    p.look_at("Pipkin bench card")
    w.look.files.tree.expandToDepth(0)
    p.take("look")
    w.go_to(KEEP)
    p.settle()
    p.take("keep")
    p.plan("Pipkin bench card")
    p.take("move")
    w.move_.rehearse()
    p.settle(lambda: w.move_.job is None)
    w.move_.run_panel.close_button.click()
    p.settle(lambda: w.move_.plan is not None)
    entry = w.move_.guard_panel.entry
    entry.field.setText(_medium(w, "New 8 GB card").tag)
    entry.buttons[0].click()
    p.settle(lambda: w.move_.job is None or (w.move_.right.reached or 0) > 1 << 29)
    p.take("move-running")
    p.settle(lambda: w.move_.job is None)
    p.settle()
    p.take("move-done")
    w.move_.run_panel.look_button.click()
    p.settle()
    assert w.stack.currentIndex() == LOOK
    w.close()


def meant_for(p: Photographer) -> None:
    """A move planned for a machine that cannot take all of it."""
    move = p.plan("Pipkin owner’s spare")
    row = move.machine.findData("pc-dos")
    move.machine.setCurrentIndex(row)
    move.machine.activated.emit(row)
    p.settle()
    p.take("machine")
    p.window.close()


def growing(p: Photographer) -> None:
    """A card with unused room, grown where it is."""
    p.look_at("Pipkin owner’s spare")
    p.window.look.grow_button.click()
    p.settle(lambda: p.window.move_.plan is not None)
    p.take("grow")
    p.window.close()


def preparing(p: Photographer) -> None:
    """A blank card laid out anew, with a folder to put on it."""
    move = p.window.move_
    p.look_at("New 8 GB card")
    p.window.look.prepare_button.click()
    p.settle(lambda: move.plan is not None)
    panel = move.prepare_panel
    panel.layouts.setCurrentIndex(1)
    panel.layouts.activated.emit(1)
    panel.name.setText("GAMES")
    with tempfile.TemporaryDirectory() as here:
        homebrew = Path(here) / "homebrew"
        homebrew.mkdir()
        for number in range(12):
            (homebrew / f"a walk in the moss {number}.gb").write_bytes(bytes(number << 15))
        panel.add_files([homebrew])
        p.settle()
        p.take("prepare")
    p.window.close()


def arranging(p: Photographer) -> None:
    """A card with three kinds of volumes, its partitions changed on the sheet."""
    p.look_at("Pipkin wide card")
    p.window.look.arrange_button.click()
    move = p.window.move_
    p.settle(lambda: move.plan is not None)
    for index, title, values in ((2, "Size…", {"size": "4 GiB"}),
                                 (3, "Rebuild with its files…", {"file system": "ext4"})):
        move.right._choose(index)
        p.open_act(title)
        for name, value in values.items():
            move.arrange_panel.fill_in(name, value)
        move.arrange_panel.add()
    p.open_act("Add partition…")
    p.settle()
    p.take("arrange")
    p.window.close()


def bringing_over(p: Photographer) -> None:
    """Single partitions of one card brought onto another, one of them made anew."""
    move = p.plan("Pipkin owner’s spare")
    move.arrange_button.click()
    for name, how, size in (("1 PEAT", "exactly", "as it is"), ("3 GAMES", "exfat", "4 GiB"),
                            ("2 STATE", "exactly", "1 GiB")):
        p.open_act("Copy a partition…")
        for field, value in (("partition", name), ("how", how), ("size", size)):
            move.arrange_panel.fill_in(field, value)
        move.arrange_panel.add()
        p.settle()
    p.take("bring-over")
    p.window.close()


def vintage(p: Photographer) -> None:
    """A drive of another family of machines, looked at like any other."""
    p.look_at("Tarn 68 drive")
    p.settle(lambda: p.window.look.files.tree.isVisible())
    p.take("look-vintage")
    p.look_at("Corvid 8 drive")
    p.settle(lambda: p.window.look.files.tree.isVisible())
    p.window.look.structure_button.click()
    tree = p.window.look.structure.tree
    p.settle(tree.isVisible)
    if boot := tree.currentItem():
        tree.setCurrentItem(boot.child(3))
    p.settle()
    p.take("structure")
    p.window.look.files_button.click()
    p.look_at("Studio desk drive")
    p.window.look.core._choose(2)
    p.settle(lambda: p.window.look.files.tree.isVisible())
    p.take("look-desk")
    p.window.close()


def converting(p: Photographer) -> None:
    """A drive of one family brought under the map of another, with the names that change."""
    move = p.plan("Tarn 68 drive")
    move.arrange_button.click()
    p.open_act("All partitions under…")
    move.arrange_panel.fill_in("map", "AHDI")
    move.arrange_panel.add()
    p.settle(lambda: move.arrange_panel.names_button.isVisible())
    move.arrange_panel.names_button.click()
    p.settle()
    p.take("convert")
    p.window.close()


def files(p: Photographer) -> None:
    """Files of an ext4 volume, one about to be put there."""
    look = p.window.look
    p.look_at("Pipkin wide card")
    look.core._choose(2)
    p.settle(lambda: look.files.tree.isVisible())
    look.files.tree.expandToDepth(0)
    with tempfile.TemporaryDirectory() as here:
        panel = Path(here) / "panel.dtb"
        panel.write_bytes(bytes(1200))
        look.files.offer_put([panel], "")
        p.settle()
        p.take("files")
    p.window.close()


def proof(p: Photographer) -> None:
    """A card that claims too much, read and proved."""
    window, station = p.window, p.window.proof
    p.look_at("Bargain 8 GB card")
    window.go_to(PROOF)
    station.read()
    p.settle(lambda: station.job is None)
    station.entry.field.setText(_medium(window, "Bargain 8 GB card").tag)
    station.entry.buttons[0].click()
    p.settle(lambda: station.job is None)
    p.settle()
    p.take("proof")
    window.close()


def filling(p: Photographer) -> None:
    """Folders of this computer sorted onto a card, two things to say."""
    station = p.window.fill
    p.window.go_to(FILL)
    station.take(_medium(p.window, "Pipkin bench card"), "")
    with tempfile.TemporaryDirectory() as here:
        station.bring([library.build(Path(here))])
        p.settle(lambda: station.filling is not None)
        p.settle()
        p.take("fill")
    p.window.close()


def _medium(window: MainWindow, name: str) -> Medium:
    return next(m for m in window.model.media if m.name == name)


if __name__ == "__main__":
    main()
