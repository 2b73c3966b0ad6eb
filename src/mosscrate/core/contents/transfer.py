"""Files from one volume into another: what would be lost on the way, and the copying itself."""

from __future__ import annotations

import queue
import threading
from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass, field, replace

from mosscrate.core.contents.extract import below
from mosscrate.core.contents.naming import proposed_name
from mosscrate.core.errors import FitError
from mosscrate.core.findings import Finding, Severity
from mosscrate.core.sizes import binary, counted
from mosscrate.core.volumes import Editor, Entry, Facts, Kind, Traits, Tree
from mosscrate.core.volumes.base import PLAIN
from mosscrate.core.watch import Watch

READ_AHEAD = 8 << 20                    # files above this are read on a thread of their own
_HELD_PIECES = 3
SKIPPED = {"lost+found"}
INSTEAD = "Choose folders that can be read, or bring the partition over exactly."


@dataclass
class Passage:
    """How a tree goes into a volume.

    Attributes:
        renamed: {old path: new path} where a name has to change, or one above it.
        changed_names: {old path: new name} of those whose own name changes.
        left_out: paths that stay behind.
    """

    renamed: dict[str, str] = field(default_factory=dict)
    changed_names: dict[str, str] = field(default_factory=dict)
    left_out: set[str] = field(default_factory=set)
    findings: list[Finding] = field(default_factory=list)

    def path(self, entry: Entry) -> str:
        """Where an entry goes."""
        return self.renamed.get(entry.path, entry.path)


def plan_passage(entries: Iterable[Entry], into: Facts, present: Iterable[str] = (),
                 unread: Iterable[Finding] = ()) -> Passage:
    """What a tree loses in a volume of another kind.

    Args:
        entries: of the source, folders before what they hold.
        into: the kind of file system they go into.
        present: paths on the target that a changed name must not meet.
        unread: folders of the source that could not be read in full.
    """
    passage = Passage(findings=[replace(f, sentence=f"{f.sentence} {INSTEAD}") if f.severity == Severity.PROBLEM else f
                                for f in unread])
    entries = [e for e in entries if e.path.split("/")[0] not in SKIPPED]
    owned = sum(e.owner not in (None, (0, 0)) for e in entries) if not into.has_owners else 0
    if owned:
        passage.findings.append(Finding(Severity.NOTE, "Owners and permissions of "
                                        f"{counted(owned, 'entry', 'entries')} cannot be kept on {into.name}."))
    links = [e for e in entries if e.kind == Kind.LINK] if not into.has_links else []
    if links:
        passage.left_out |= {e.path for e in links}
        verb = "is" if len(links) == 1 else "are"
        passage.findings.append(Finding(Severity.WARNING, f"{counted(len(links), 'link')} cannot stand on "
                                        f"{into.name} and {verb} left out, first “{links[0].path}”."))
    special = [e for e in entries if e.kind == Kind.SPECIAL]
    if special:
        passage.left_out |= {e.path for e in special}
        verb = "is" if len(special) == 1 else "are"
        passage.findings.append(Finding(
            Severity.WARNING, f"{counted(len(special), 'pipe or device', 'pipes and devices')} {verb} left out: only "
            f"files, folders and links are brought over. The first is “{special[0].path}”."))
    most = into.largest_file
    large = [e for e in entries if e.size > most] if most else []
    passage.left_out |= {e.path for e in large}
    for e in large[:3]:
        assert most is not None, "it is larger than that"
        passage.findings.append(Finding(Severity.PROBLEM, f"“{e.path}” has {binary(e.size)}; a file on {into.name} "
                                        f"ends below {binary(most + 1)}. It is left out.", e.path))
    _names(entries, passage, into, present)
    return passage


def hollow(_entry: Entry) -> Iterator[bytes]:
    """The bytes of a file where only its place is wanted: none; what they leave of its size becomes a hole."""
    return iter(())


def copy_tree(read: Callable[[Entry], Iterator[bytes]], entries: Iterable[Entry], editor: Editor, passage: Passage,
              watch: Watch, *, folder: str = "", make_way: Callable[[str], None] = lambda _path: None) -> int:
    """Copy entries with their times; returns how many bytes of files. Raises FitError, FormatError, MediumError.

    The editor is not committed. Folders may be there already; `make_way` is called before each file and link, `read`
    gives the bytes of a file.
    """
    wanted = [e for e in entries if e.path not in passage.left_out and e.path.split("/")[0] not in SKIPPED]
    total, done = sum(e.size for e in wanted), 0
    for entry in wanted:
        path = f"{folder}/{passage.path(entry)}".strip("/")
        match entry.kind:
            case Kind.FOLDER:
                editor.add_folder(path, entry.traits)
            case Kind.LINK:
                make_way(path)
                editor.add_link(path, entry.target or "", entry.traits)
            case Kind.FILE:
                make_way(path)
                pieces = read(entry)
                data = read_ahead(pieces) if entry.size > READ_AHEAD else b"".join(pieces)
                editor.add_file(path, data, entry.traits, size=entry.size)
                done += entry.size
        watch.progress("Copying files", done, total)
    return done


def subtree(tree: Tree, path: str) -> list[Entry]:
    """The entry at a path and all in it, with paths that begin at its own name; everything for "".

    Raises MediumError where nothing is there.
    """
    inside = below(tree, path)
    cut = len(inside[0].path) - len(inside[0].name) if inside and path.strip("/") else 0
    return [replace(e, path=e.path[cut:]) for e in inside]


def read_ahead(pieces: Iterator[bytes]) -> Iterator[bytes]:
    """The same pieces, read on another thread while the last ones are written."""
    held: queue.Queue[bytes | BaseException | None] = queue.Queue(_HELD_PIECES)
    is_over = threading.Event()

    def hand_over(item: bytes | BaseException | None) -> None:
        while not is_over.is_set():
            try:
                held.put(item, timeout=0.2)
                return
            except queue.Full:
                continue

    def read() -> None:
        try:
            for piece in pieces:
                hand_over(piece)
                if is_over.is_set():
                    return
            hand_over(None)
        except BaseException as error:          # handed to whoever waits for the pieces
            hand_over(error)

    thread = threading.Thread(target=read, name="read-ahead", daemon=True)
    thread.start()
    try:
        while (item := held.get()) is not None:
            if isinstance(item, BaseException):
                raise item
            yield item
    finally:
        is_over.set()
        thread.join()


def ensure_folder(editor: Editor, path: str, traits: Traits = PLAIN) -> None:
    """Make a folder and those above it where they are missing. Raises FitError."""
    parts = path.strip("/").split("/") if path.strip("/") else []
    for depth in range(1, len(parts) + 1):
        editor.add_folder("/".join(parts[:depth]), traits)


def _names(entries: list[Entry], passage: Passage, into: Facts, present: Iterable[str]) -> None:
    """New names for those that the target cannot hold, or that differ only in case there."""
    fold = into.folded
    taken: dict[str, set[str]] = {}
    there: dict[str, set[str]] = {}
    for path in present:
        folder, _, name = path.rpartition("/")
        there.setdefault(fold(folder), set()).add(name.lower())
    for entry in entries:
        if entry.path in passage.left_out:
            continue
        parent, _, name = entry.path.rpartition("/")
        parent = passage.renamed.get(parent, parent)
        here = taken.setdefault(fold(parent), set())
        stood = into.stands_as(name)
        wanted = name if stood.lower() == name.lower() else stood       # some letters have two capitals
        fresh = wanted
        if fold(name) in here or into.why_not(name) or (
                wanted != name and wanted.lower() in there.get(fold(parent), set())):
            avoided = {n.lower() for n in here} | there.get(fold(parent), set())
            fresh = into.stands_as(proposed_name(wanted, avoided, into.why_not))
        here.add(fold(fresh))
        path = f"{parent}/{fresh}".lstrip("/")
        if path != entry.path:
            passage.renamed[entry.path] = path
            if fresh != name:
                passage.changed_names[entry.path] = fresh
                passage.findings.append(Finding(Severity.NOTE, f"“{entry.path}” becomes “{fresh}”: its name cannot "
                                                "stand there.", entry.path))


def must_fit(passage: Passage) -> None:
    """Raises FitError with the first thing that would be lost for good."""
    for finding in passage.findings:
        if finding.severity == Severity.PROBLEM:
            raise FitError(finding.sentence)
