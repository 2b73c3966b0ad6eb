"""A card teaches its plan: which folder is which system's, with the evidence, and where saves and pictures go.

What cannot be known is asked, never guessed: a folder is certain only where name, endings and headers leave no doubt.
"""

from __future__ import annotations

from collections import Counter, defaultdict
from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass, field, replace

from mosscrate.core.contents.files import FileKind, kind_of
from mosscrate.core.fill.folders import Use, use_of
from mosscrate.core.fill.headers import Reading, cartridges, read_header
from mosscrate.core.fill.plans import FolderPlan, Pictures, Saves, States, SystemPlan
from mosscrate.core.fill.settings import Setting, about, settings_on
from mosscrate.core.fill.systems import MAYBE, WHOLE, systems
from mosscrate.core.sizes import counted, listed
from mosscrate.core.volumes import Entry, Kind

ENOUGH, APART, LEAST = 4.0, 2.0, 1.0
LOOKED_AT = 6                            # files of a folder whose headers are read
PROMISING = frozenset(ending for each in cartridges.RECOGNISERS if each.is_firm
                      for ending in each.endings)
PACKED = ("zip", "7z")
MIXED = "a name that says nothing, and files of several systems"
FEW = 3                                  # files below which contents alone prove nothing
SAVE_ENDINGS = ("sav", "srm", "sra", "eep", "fla", "nv", "ram", "dsv", "mcr", "mcd", "gme", "mpk", "vmu")
PICTURE_ENDINGS = ("png", "jpg", "jpeg", "bmp")
STRANGE = {"mp3", "flac", "ogg", "mp4", "mkv", "avi", "pdf", "cbz", "epub", "txt", "doc", "docx", "html", "jpg", "jpeg",
           "gif"}
TEXTS = {"txt", "md", "nfo", "xml", "json", "cfg", "ini", "log"}


@dataclass(frozen=True)
class Guess:
    """That a folder is a system's, how much speaks for it, and what."""

    system: str
    weight: float
    evidence: tuple[str, ...]


@dataclass(frozen=True)
class Line:
    """What was learnt of one folder.

    Attributes:
        folder: its path.
        guesses: the likeliest first; of one that is certain the first is it.
        is_certain: whether nobody has to be asked.
        why_not: what speaks against certainty, in words.
        files: how many lie in it, deeper ones too.
        opens: endings that the card's own settings name for it.
    """

    folder: str
    guesses: tuple[Guess, ...]
    is_certain: bool
    why_not: str = ""
    files: int = 0
    opens: tuple[str, ...] = ()

    @property
    def system(self) -> str:
        """The system of a certain folder; "" for one that is asked."""
        return self.guesses[0].system if self.is_certain else ""


@dataclass(frozen=True)
class Learnt:
    """What a card teaches: a line for each folder of games, and a plan of those that are certain."""

    lines: tuple[Line, ...]
    plan: FolderPlan

    @property
    def asked(self) -> tuple[Line, ...]:
        """Folders that a person has to say something to."""
        return tuple(line for line in self.lines if not line.is_certain)


@dataclass
class _Folder:
    path: str
    files: list[Entry] = field(default_factory=list)
    below: list[Entry] = field(default_factory=list)      # files further down


def learn(entries: Iterable[Entry], read_at: Callable[[Entry, int, int], bytes] | None = None,
          answers: dict[str, str] | None = None) -> Learnt:
    """Learn from the tree of a card.

    Args:
        entries: of the volume.
        read_at: bytes of a file, for its header and for the card's own settings; without it names and endings decide.
        answers: folder → system, "" for none: what a person has said.
    """
    entries = list(entries)
    folders = _folders(entries)
    settings = settings_on(entries, read_at) if read_at is not None else []
    lines, taken = list[Line](), list[str]()
    for path in sorted(folders, key=lambda each: (each.count("/"), each)):
        said = about(path, settings)
        if any(path.startswith(f"{above}/") for above in taken) or (_is_beside(path) and not said):
            continue
        line = _line(folders[path], read_at, said)
        if line is not None:
            lines.append(line)
            taken.append(path)
    lines = [_answered(line, answers or {}) for line in _doubted(lines)]
    lines = [line for line in lines if line.guesses]
    return Learnt(tuple(lines), _plan(lines, entries))


def _folders(entries: Sequence[Entry]) -> dict[str, _Folder]:
    found = {e.path: _Folder(e.path) for e in entries if e.kind == Kind.FOLDER}
    for entry in entries:
        parts = entry.path.split("/")
        if entry.kind == Kind.FILE and len(parts) > 1:
            parent = "/".join(parts[:-1])
            found.setdefault(parent, _Folder(parent)).files.append(entry)
            for depth in range(1, len(parts) - 1):
                above = "/".join(parts[:depth])
                found.setdefault(above, _Folder(above)).below.append(entry)
    return found


def _is_beside(path: str) -> bool:
    """Whether a folder, or one above it, is for something else than games."""
    for part in path.split("/"):
        if part.startswith("."):
            return True
        use = use_of(part)
        if use is not None and use != Use.GAMES and not _says_system(part):
            return True
    return False


def _says_system(name: str) -> bool:
    return max(systems().named(name).values(), default=0.0) > MAYBE


def _line(folder: _Folder, read_at: Callable[[Entry, int, int], bytes] | None, said: Sequence[Setting]) -> Line | None:
    """What a folder is; None where it is no system's."""
    name = folder.path.rpartition("/")[2]
    by_name = systems().named(name)
    if use_of(name) == Use.GAMES and not _says_system(name):
        by_name = {}
    by_name |= {each.system: WHOLE for each in said}
    is_named = bool(by_name)
    own = _games([*folder.files, *folder.below] if is_named else folder.files)
    weights, evidence = defaultdict[str, float](float), defaultdict[str, list[str]](list)
    for code, weight in by_name.items():
        weights[code] += weight
        evidence[code].append(next((f"“{each.file}” says so" for each in said if each.system == code), "its name" if
                                   weight > MAYBE else "its name, which means others too"))
    _by_endings(own, weights, evidence, is_named=is_named)
    _by_headers(own, weights, evidence, read_at)
    _hold_back_strays(own, weights, by_name)
    strange = [e for e in [*folder.files, *folder.below] if _ending(e) in STRANGE]
    if strange and len(strange) > 2 * len(own):
        for code in weights:
            weights[code] -= 4.5
    is_all_games = 2 * sum(_ending(e) in systems().own for e in own) > len(own)
    least = LEAST if not by_name and not is_all_games else -10.0 if by_name and own else 0.1    # these are asked
    guesses = tuple(Guess(code, round(weight, 2), tuple(evidence[code])) for code, weight in sorted(
        weights.items(), key=lambda each: -each[1]) if weight >= least)
    if not guesses:
        return None
    why_not = _doubt(guesses, by_name, own, folder)
    return Line(folder.path, guesses, not why_not, why_not, len(own),
                tuple(ending for each in said if each.system == guesses[0].system for ending in each.endings))


def _hold_back_strays(own: Sequence[Entry], weights: dict[str, float], by_name: dict[str, float]) -> None:
    """A few files of other systems say little against a name that means one system only."""
    known, named = systems(), max(by_name, key=lambda code: by_name[code], default="")
    if not named or by_name[named] < ENOUGH:
        return
    for code in weights:
        number = sum(known.own.get(_ending(e)) == code for e in own)
        if not known.are_kin(code, named) and code not in by_name and (number < FEW or 2 * number <= len(own)):
            weights[code] = min(weights[code], ENOUGH - APART)


def _games(files: Iterable[Entry]) -> list[Entry]:
    """Without what lies beside games: saves, pictures, texts."""
    return [e for e in files if _ending(e) not in SAVE_ENDINGS and _ending(e) not in STRANGE
            and kind_of(e) not in (FileKind.SAVE, FileKind.SETTING)
            and _ending(e) not in PICTURE_ENDINGS and not e.name.startswith(".")]


def _by_endings(own: Sequence[Entry], weights: dict[str, float], evidence: dict[str, list[str]], *,
                is_named: bool) -> None:
    known, counts = systems(), Counter(_ending(e) for e in own)
    total = sum(counts.values())
    sole, shared = defaultdict[str, float](float), Counter[str]()
    for ending, number in counts.items():
        if ending in known.own:
            sole[known.own[ending]] += number if ending in known.alone else number / 2
        for code in known.shared.get(ending, ()):
            shared[code] += number
    for code, share in sole.items():
        weights[code] += (4.0 if share >= FEW else 3.0) * share / total
        evidence[code].append(f"{share:g} of {counted(total, 'file')} by their endings")
    for code, number in shared.items():
        if is_named and code in weights:
            weights[code] += number / total
            evidence[code].append(f"{number} of {counted(total, 'file')} with endings that it uses too")


def _by_headers(own: Sequence[Entry], weights: dict[str, float], evidence: dict[str, list[str]],
                read_at: Callable[[Entry, int, int], bytes] | None) -> None:
    """What the headers of a few files say."""
    if read_at is None or not own:
        return
    step = max(1, len(own) // LOOKED_AT)
    some = list(own)[::step][:LOOKED_AT]
    found = [_header(entry, read_at) for entry in some]
    read = Counter(reading.system for reading in found if reading.sure >= 2)
    for code, number in read.items():
        weights[code] += 5.0 * number / len(some)
        evidence[code].append(f"{number} of {counted(len(some), 'header')} read")
    for entry, reading in zip(some, found, strict=True):
        code = systems().own.get(_ending(entry), "")
        if code in weights and reading.sure == 0 and _ending(entry) in PROMISING:
            weights[code] -= 6.0 / len(some)
            evidence[code].append(f"“{entry.name}” has not the header that its ending promises")


def _header(entry: Entry, read_at: Callable[[Entry, int, int], bytes]) -> Reading:
    return read_header(entry.size, lambda at, count: read_at(entry, at, count), _ending(entry))


def _doubt(guesses: Sequence[Guess], by_name: dict[str, float], own: Sequence[Entry], folder: _Folder) -> str:
    """Why a folder has to be asked; "" where it is certain."""
    first, known = guesses[0], systems()
    others = [g for g in guesses[1:] if not known.are_kin(g.system, first.system)]
    named = max(by_name, key=lambda code: by_name[code], default="")
    if named and not any(known.are_kin(code, first.system) for code in by_name):
        return f"its name says {named}, what is in it {first.system}"
    usual = known.by_code[first.system].shared
    strange = [known.own[_ending(e)] for e in own if _ending(e) in known.own and _ending(e) not in usual
               and not known.are_kin(known.own[_ending(e)], first.system)]
    if named and len(strange) >= FEW and 2 * len(strange) > len(own):
        return f"its name says {first.system}, what is in it {listed(sorted(set(strange)))}"
    if not by_name and len(own) < FEW:
        return "too few files, and a name that says nothing"
    its = sum(known.own.get(_ending(e)) in (first.system, *known.by_code[first.system].kin) for e in own)
    if not by_name and 3 * its < 2 * len(own):
        return MIXED
    texts = sum(_ending(e) in TEXTS or _ending(e) == "" for e in folder.files)
    if texts >= FEW and not own:
        return "texts and no game"
    if first.weight < ENOUGH:
        return "its files do not show it"
    if others and round(first.weight - others[0].weight, 2) < APART:
        return f"it could be {listed([first.system, *(g.system for g in others[:2])])}"
    return ""


def _doubted(lines: list[Line]) -> list[Line]:
    """Folders without a name that lie beside each other and seem to be one system's, or mixed, are genres: asked."""
    known, found = systems(), list[Line]()
    groups = Counter((line.folder.rpartition("/")[0], line.guesses[0].system) for line in lines
                     if not known.named(line.folder.rpartition("/")[2]))
    mixed = {line.folder.rpartition("/")[0] for line in lines if line.why_not == MIXED}
    for line in lines:
        key = (line.folder.rpartition("/")[0], line.guesses[0].system)
        is_genre = not known.named(line.folder.rpartition("/")[2]) and (groups[key] > 1 or key[0] in mixed)
        found.append(replace(line, is_certain=False, why_not="several folders without a name seem to be one system’s")
                     if line.is_certain and is_genre else line)
    return found


def _answered(line: Line, answers: dict[str, str]) -> Line:
    if line.folder not in answers:
        return line
    code = answers[line.folder]
    own = [g for g in line.guesses if g.system == code] or ([Guess(code, ENOUGH, ())] if code else [])
    guesses = tuple(Guess(g.system, g.weight, (*g.evidence, "you said so")) for g in own)
    return Line(line.folder, guesses, bool(code), "", line.files, line.opens)


def _plan(lines: Sequence[Line], entries: Sequence[Entry]) -> FolderPlan:
    certain = sorted((line for line in lines if line.is_certain), key=lambda line: -line.files)
    roots = Counter(line.folder.rpartition("/")[0] for line in certain)
    root = roots.most_common(1)[0][0] if roots else ""
    folders = defaultdict[str, list[str]](list)
    for line in certain:
        prefix = f"{root}/" if root else ""
        if line.folder.startswith(prefix):
            folders[line.system].append(line.folder.removeprefix(prefix))
    endings = defaultdict[str, Counter[str]](Counter)
    of_folder = {line.folder: line.system for line in certain}
    for entry in entries:
        code = next((of_folder[above] for above in _above(entry.path) if above in of_folder), None)
        if code and entry.kind == Kind.FILE and _games([entry]):
            endings[code][_ending(entry)] += 1
    said = {line.system: line.opens for line in certain if line.opens}
    plans = {code: SystemPlan(tuple(paths) if len(paths) > 1 else paths[0],
                              _opens(code, endings[code], said.get(code, ())),
                              tuple(each for each in PACKED if endings[code][each] or each in said.get(code, ())))
             for code, paths in sorted(folders.items())}
    places = _places(entries, of_folder, root)
    return FolderPlan("learnt", "as this card has it", plans, root=root, fresh=_fresh(certain),
                      saves=Saves(places[FileKind.SAVE]) if FileKind.SAVE in places else None,
                      states=None if "states" not in places else States(places["states"]),
                      pictures=Pictures(places[FileKind.PICTURE]) if FileKind.PICTURE in places else None)


def _opens(code: str, seen: Counter[str], said: Sequence[str]) -> tuple[str, ...]:
    """Endings that settings name; else those that lie there, and those that are the system's own."""
    if said:
        return tuple(ending for ending in said if ending not in PACKED)
    system = systems().by_code[code]
    usual = {*system.endings, *system.shared}
    return tuple(dict.fromkeys([ending for ending, _ in seen.most_common() if ending in usual] + list(system.endings)))


def _fresh(certain: Sequence[Line]) -> str:
    """How folders are named: as codes in small or capital letters, or otherwise."""
    names = [(line.folder.rpartition("/")[2], line.system) for line in certain]
    forms = Counter("{code}" if name == code else "{CODE}" if name == code.upper() else "{name}"
                    for name, code in names)
    return forms.most_common(1)[0][0] if forms else "{code}"


def _places(entries: Sequence[Entry], of_folder: dict[str, str], root: str) -> dict[str, str]:
    """Where saves and pictures of games lie, as patterns: the relation that most of them have."""
    games = defaultdict[str, list[tuple[str, str]]](list)     # stem → (folder of the system, path of the game)
    for entry in entries:
        folder = next((above for above in _above(entry.path) if above in of_folder), None)
        if folder and entry.kind == Kind.FILE and _games([entry]):
            games[_stem(entry.path)].append((folder, entry.path))
    votes = defaultdict[str, Counter[str]](Counter)
    for entry in entries:
        ending = _ending(entry)
        kind = FileKind.SAVE if ending in SAVE_ENDINGS else FileKind.PICTURE if ending in PICTURE_ENDINGS else None
        if entry.kind != Kind.FILE or kind is None:
            continue
        for stem, tail in _stems(entry.path):
            for folder, _ in games.get(stem, ())[:1]:
                votes[kind][_relation(entry.path, folder, of_folder[folder], root, tail)] += 1
                break
            else:
                continue
            break
    return {kind: counts.most_common(1)[0][0] for kind, counts in votes.items()}


def _relation(path: str, folder: str, code: str, root: str, tail: str) -> str:
    """A pattern for where a file lies, seen from the folder of its game's system."""
    above, _, name = path.rpartition("/")
    ending = name.rpartition(".")[2]
    file = ("{file}" if tail == "file" else "{stem}") + ("" if tail == "file" else tail) + f".{ending}"
    own = folder.removeprefix(f"{root}/") if root else folder
    pattern = "{root}/{folder}" if root else "{folder}"
    if above == folder or above.startswith(f"{folder}/"):
        inner = above.removeprefix(folder).strip("/")
        return "/".join(filter(None, (pattern, inner, file)))
    parts = ["{folder}" if part == own else "{code}" if part == code else "{CODE}" if part == code.upper() else part
             for part in above.split("/")] if above else []
    return "/".join([*parts, file])


def _stems(path: str) -> list[tuple[str, str]]:
    """A file's stem as a game's may be, with what stands behind it: "file" where the game's ending is in it."""
    stem = _stem(path)
    found = [(stem, "")]
    if "." in stem:
        found.append((stem.rpartition(".")[0], "file"))
    for tail in ("-image", "-thumb", "-boxart"):
        if stem.endswith(tail):
            found.append((stem.removesuffix(tail), tail))
    return found


def _above(path: str) -> list[str]:
    """The folders above a path, the nearest first."""
    parts = path.split("/")[:-1]
    return ["/".join(parts[:depth]) for depth in range(len(parts), 0, -1)]


def _ending(entry: Entry) -> str:
    name = entry.path.rpartition("/")[2]
    return name.rpartition(".")[2].casefold() if "." in name else ""


def _stem(path: str) -> str:
    name = path.rpartition("/")[2]
    return name.rpartition(".")[0] if "." in name else name
