"""What needs a word from the person: one question for each cause, with ready answers, most worth first."""

from __future__ import annotations

from collections import Counter, defaultdict
from collections.abc import Sequence
from math import log2

from mosscrate.core.fill.bringing import AS_THEY_LIE, GAMES_OF, PICTURES, SYSTEM_FILES, UNKNOWN, Role
from mosscrate.core.fill.companions import ALL_THE_SAME, KEEP_ENDING, SAVE_ENDINGS
from mosscrate.core.fill.comparing import COMPARE, SEEMING
from mosscrate.core.fill.households import PICTURE_ENDINGS, WHOSE, Gathered, Unsure
from mosscrate.core.fill.placed import BETWEEN, COMING, GROUP, SHOWN, Act, Cause, Placed, Question, Sorted, some_of
from mosscrate.core.fill.placing import AS_LISTED, BOTH, NUMBER, TAKE_PLACE, TITLES, Placing
from mosscrate.core.fill.plans import FolderPlan
from mosscrate.core.fill.sets import Lacking
from mosscrate.core.fill.systems import systems
from mosscrate.core.fill.using import USE
from mosscrate.core.fill.wanted import missing
from mosscrate.core.fill.ways import FOLDERS, LEAVE_OUT, MAKE_ALL
from mosscrate.core.sizes import MIB, binary, counted, listed

TAKE, GO_ON = "take it from the crate", "go on without"
ALWAYS = frozenset(("both save", "renames", "met", "pictures there", "scaling", "litter", "names", "room", "bare",
                    SEEMING, "plan", BOTH, FOLDERS, TITLES, SAVE_ENDINGS, "litter there", "preinstalled", "skeleton",
                    "over", "wrapping", "unreadable", "wants", "grow"))
OF_SOMETHING = (WHOSE, USE, "save size ", "in the way ", "folder ", "ending ", "saves ", "states ", "pictures ",
                "manuals ", "system ", "full ", "too large ", "unreadable ", "unknown ", "want ", "sheet ",
                "boot file ", "both ", GROUP)
MOST_HINTS = 3                           # systems that are offered for files of which nothing tells
ONE_BY_ONE = "ask for each"
ROOM, WHAT_FITS = "room", "bring in what fits"
WANT = "want "                           # in front of a system file, in the key of a question about it


def questions_about(placed: Sequence[Placed], placing: Placing, gathered: Gathered,
                    in_crate: dict[str, str]) -> list[Question]:
    """One for each cause; `in_crate` are wanted system files that a backup holds, with its name."""
    causes = defaultdict[tuple[str, str, str], list[Placed]](list)
    for each in placed:
        if each.act == Act.KEEP_BOTH:
            causes["both", str(each.file.role), ""].append(each)
        elif each.act == Act.RENAME:
            causes["renames", "", ""].append(each)
        elif each.act == Act.LEAVE:
            causes[_cause_of(each)].append(each)
        elif each.cause != Cause.NONE:
            causes[each.cause, "", ""].append(each)
    asked = [question for cause, found in causes.items() if (question := _question(cause, found)) is not None]
    asked += _about_folders([each for each in asked if each.key.startswith("folder ")])
    asked += _about_system_files(placed, placing, in_crate)
    asked += [about_sheet(each) for each in gathered.lacking]
    asked += [_about_whose(each) for each in gathered.unsure]
    if placing.titled:
        asked.append(_about_titles(placing.titled))
    if placing.changed:
        asked.append(_about_endings(placing.changed))
    return [*asked, _about_names(placing)] if placing.renamed else asked


def _about_folders(single: Sequence[Question]) -> list[Question]:
    """One word for all systems that have no folder."""
    if len(single) < 2:
        return []
    files = sum(each.files for each in single)
    names = some_of([each.key.removeprefix("folder ") for each in single])
    return [Question(FOLDERS, f"{counted(len(single), 'system')} of what is brought in have no folder on this card, "
                     f"{counted(files, 'file')}: {names}.", (ONE_BY_ONE, MAKE_ALL), 7300.0, files)]


def _about_whose(unsure: Unsure) -> Question:
    """A file that may belong to any of several games."""
    return Question(f"{WHOSE}{unsure.file.path}", f"“{unsure.file.name}” may be of {listed(list(unsure.labels))}; "
                    f"it is left out.", (LEAVE_OUT, *unsure.labels), 7200.0, 1)


def _about_titles(titled: dict[str, str]) -> Question:
    old, new = next(iter(titled.items()))
    return Question(TITLES, f"{counted(len(titled), 'game')} {'has' if len(titled) == 1 else 'have'} another name in a "
                    f"list of checksums: “{old}” is “{new}”.", ("keep their names", AS_LISTED),
                    3500 + 100 * log2(1 + len(titled)), len(titled))


def _about_endings(changed: dict[str, str]) -> Question:
    old, new = next(iter(changed.items()))
    get = "gets" if len(changed) == 1 else "get"
    return Question(SAVE_ENDINGS, f"{counted(len(changed), 'save')} {get} the ending that this card’s have: “{old}” "
                    f"becomes “{new}”.", ("change them so", KEEP_ENDING), 2500 + 100 * log2(1 + len(changed)),
                    len(changed))


def may_be_asked(key: str, found: Sorted, plan: FolderPlan) -> bool:
    """Whether a question of that key could be asked of a filling; what was done already is not asked any more."""
    if key in ALWAYS:
        return True
    files = [each.file for each in found.placed]
    things = {*systems().by_code, *(want.file for want in plan.wants), *(each.group for each in files),
              *(str(each.path) for each in files), *(each.name for each in files), *map(str, Role)}
    of = next((key.removeprefix(front) for front in OF_SOMETHING if key.startswith(front)), "")
    return of in things or key.startswith(USE) or (key.startswith("ending ") and of.partition(" ")[0] in things) or (
        key.startswith(GROUP) and set(of.split(BETWEEN)) <= things)


def _cause_of(each: Placed) -> tuple[str, str, str]:
    file = each.file
    match each.cause:
        case Cause.FOLDER:
            return str(each.cause), file.system, ""
        case Cause.ENDING:
            return str(each.cause), file.system, file.ending
        case Cause.LITTER | Cause.WAITS | Cause.SEEMING | Cause.PICTURED | Cause.MET | Cause.BOTH | Cause.WHOSE:
            return str(each.cause), "", ""
    return str(each.cause), file.group, ""


def _question(cause: tuple[str, str, str], found: list[Placed]) -> Question | None:
    number, size, group = len(found), sum(each.file.size for each in found), cause[1]
    names = some_of([each.file.path.name for each in found])
    are, has = ("is", "has") if number == 1 else ("are", "have")
    why = found[0].why
    match cause[0]:
        case Cause.BESIDE:
            newer = sum("card’s is newer" in each.why for each in found)
            return Question("both save", f"{counted(number, 'save')} {are} on the card with other contents: {names}. "
                            f"The card’s stay in use{f', newer for {newer} of them' if newer else ''}; the others come "
                            "beside.", ("keep both", "use the ones brought in"), _worth(9, found), number)
        case "both":
            return Question(f"both {group}", f"{counted(number, group)} {are} on the card with other contents: "
                            f"{names}. The card’s stay under dated names.", ("keep both",), _worth(9, found), number)
        case "renames":
            return Question("renames", f"{counted(number, 'file')} {are} on the card already under other names or in "
                            f"other folders, compared: {names}.", ("rename", "bring in as well"), _worth(4, found),
                            number)
        case Cause.BOTH:
            ways = (NUMBER, TAKE_PLACE, LEAVE_OUT) if found[0].act != Act.LEAVE else (LEAVE_OUT, NUMBER, TAKE_PLACE)
            return Question(BOTH, f"{counted(number, 'game')} brought in {has} the name of another one on the card: "
                            f"{names}. Both stay, with what belongs to each.", ways, _worth(9, found), number)
        case Cause.MANUALS:
            return Question(f"manuals {group}", f"{counted(number, 'manual')} of {group} {are} left out: {why}.",
                            (LEAVE_OUT, ALL_THE_SAME), _worth(1, found), number)
        case Cause.NUMBERED | Cause.MET:
            usual = (NUMBER, LEAVE_OUT) if cause[0] == Cause.NUMBERED else (LEAVE_OUT, NUMBER)
            return Question("met", f"{counted(number, 'file')} brought in {has} the name of another one, and "
                            f"other contents: {names}.", usual, _worth(4, found), number)
        case Cause.IN_THE_WAY:
            return Question(f"in the way {group}", f"{counted(number, 'file')} of {group} {are} left out: {why}. First "
                            f"{names}.", (LEAVE_OUT,), _worth(8, found), number)
        case Cause.FOLDER:
            return Question(f"folder {group}", f"{group} has no folder on this card: {counted(number, 'file')}, "
                            f"{binary(size)}.", (LEAVE_OUT, "make one"), _worth(6, found), number)
        case Cause.ENDING:
            return Question(f"ending {group} {cause[2]}".rstrip(), f"{counted(number, f'{group} file')} "
                            f"{f'{are} {cause[2]}' if cause[2] else f'{has} no ending'}; "
                            f"{why}.", (LEAVE_OUT, ALL_THE_SAME), _worth(5, found), number)
        case Cause.SAVES:
            return Question(f"saves {group}", f"{counted(number, 'save')} of {group} {are} left out: {why}.",
                            (LEAVE_OUT,), _worth(7, found), number)
        case Cause.SIZE:
            return Question(f"save size {group}", f"{counted(number, 'save')} of {group} {are} hardly of "
                            f"{'its game' if number == 1 else 'their games'}: {found[0].file.path.name}, {why}.",
                            (LEAVE_OUT, ALL_THE_SAME), _worth(7, found), number)
        case Cause.STATES:
            return Question(f"states {group}", f"{counted(number, 'save state')} of {group} {are} left out: {why}.",
                            (LEAVE_OUT, ALL_THE_SAME), _worth(3, found), number)
        case Cause.PICTURES | Cause.SYSTEM as what:
            of = "picture" if what == Cause.PICTURES else "system file"
            return Question(f"{what} {group}", f"{counted(number, of)} of {group} {are} left out: {why}.",
                            (LEAVE_OUT,), _worth(3, found), number)
        case Cause.PICTURED:
            return Question("pictures there", f"The card has pictures of {counted(number, 'game')} for which others "
                            f"are brought in: {names}.", ("keep the card’s", "use the ones brought in"),
                            _worth(2, found), number)
        case Cause.SEEMING:
            seem = "seems" if number == 1 else "seem"
            return Question(SEEMING, f"{counted(number, 'file')} brought in, {binary(size)}, {seem} to come twice: "
                            f"{names}. Their sizes and some places of them were compared.",
                            (LEAVE_OUT, COMPARE), _worth(8, found), number)
        case Cause.WAITS:
            return Question("scaling", f"{counted(number, 'picture')} {are} not as large as this card wants "
                            f"{'it' if number == 1 else 'them'}; {'it is' if number == 1 else 'they are'} scaled "
                            "beside the rest.", ("scale them",), _worth(2, found), number)
        case Cause.LITTER:
            return Question("litter", f"{counted(number, 'file')} that desktops leave behind, {binary(size)}.",
                            (LEAVE_OUT,), _worth(1, found), number)
        case Cause.FULL:
            return Question(f"full {group}", f"{counted(number, 'file')} of {group} {are} left out: a folder of this "
                            f"file system has no room for more names. First {names}.", (LEAVE_OUT,), _worth(8, found),
                            number)
        case Cause.TOO_LARGE | Cause.ROOM:
            return Question(f"{cause[0]} {group}", f"{counted(number, 'file')} of {group}, {binary(size)}, {are} left "
                            f"out: {why}. First {names}.", (LEAVE_OUT,), _worth(8, found), number)
        case Cause.UNREADABLE:
            return Question(f"unreadable {group}", f"{counted(number, 'entry', 'entries')} of {group} cannot be read "
                            f"and {are} left out. {why}", (LEAVE_OUT,), _worth(7, found), number)
        case Cause.UNKNOWN:
            return Question(f"{UNKNOWN}{group}", f"{counted(number, 'file')} of {group} {are} left out, of an "
                            f"unknown kind: {names}.", _what_for(group, found), _worth(3, found), number)
    return None


def _what_for(group: str, found: Sequence[Placed]) -> tuple[str, ...]:
    """What files of which nothing tells may be: games of systems by what hints there are, pictures, system files."""
    known, hints = systems(), Counter[str]()
    for each in found:
        hints.update(known.shared.get(each.file.ending, ()))
    hints.update({code: round(10 * weight) for code, weight in known.named(group).items()})
    return (LEAVE_OUT, *(f"{GAMES_OF}{code}" for code, _ in hints.most_common(MOST_HINTS)),
            *((PICTURES,) if any(each.file.ending in PICTURE_ENDINGS for each in found) else ()), SYSTEM_FILES,
            AS_THEY_LIE)


def _worth(rank: int, found: Sequence[Placed]) -> float:
    return rank * 1000 + 100 * log2(1 + len(found)) + sum(each.file.size for each in found) / 64 / MIB


def _about_system_files(placed: Sequence[Placed], placing: Placing, in_crate: dict[str, str]) -> list[Question]:
    """What is wanted for games that are on the card or come to it, and is not there."""
    plan, ground = placing.plan, placing.ground
    games = placing.waiting + Counter(each.file.system for each in placed if each.file.role == Role.GAME
                                      and each.act not in (Act.LEAVE, Act.SKIP, Act.SEEMS))
    lost = missing(plan, lambda place: (folded := ground.facts.folded(place)) in ground.there or folded in ground.taken,
                   games)
    asked = []
    for want, waiting in lost:
        held = in_crate.get(want.file, "")
        waits = "waits" if waiting == 1 else "wait"
        asked.append(Question(f"{WANT}{want.file}", f"{want.file} is missing for {listed(want.systems)}; "
                              f"{counted(waiting, 'game')} {waits} for it.{f' {held}' if held else ''}",
                              (TAKE, GO_ON) if held else (GO_ON,),
                              7000 + 100 * log2(1 + waiting), waiting))
    return asked


def about_sheet(lacking: Lacking) -> Question:
    """A sheet that names files which are not beside it."""
    more = " …" if len(lacking.names) > SHOWN else ""
    return Question(f"sheet {lacking.sheet.path}", f"“{lacking.sheet.path.name}” names "
                    f"{listed(list(lacking.names[:SHOWN]))}{more}, and nothing of that name is beside it.",
                    ("bring in what there is",), 6500.0, 1)


def _about_names(placing: Placing) -> Question:
    old, new = next(iter(placing.renamed.items()))
    because = f": {placing.plan.names.because}" if placing.plan.names.because else ""
    return Question("names", f"{counted(len(placing.renamed), 'name')} cannot stand there{because}. “{_last(old)}” "
                    f"becomes “{_last(new)}”.", ("shorten them so",), 2000 + 100 * log2(1 + len(placing.renamed)),
                    len(placing.renamed))


def too_much(placed: Sequence[Placed], need: int, free: int) -> list[Question]:
    """What would fit: without the smallest group that is large enough; or as much as there is room for."""
    groups = Counter[str]()
    for each in placed:
        if each.act in COMING:
            groups[each.file.group] += each.size
    over = need - free
    out = min(([group] for group, size in groups.items() if size >= over), key=lambda each: groups[each[0]], default=[])
    for group, _ in () if out else groups.most_common():                 # none alone: the fewest that are enough
        out.append(group)
        if sum(groups[each] for each in out) >= over:
            break
    gone = sum(groups[each] for each in out)
    whole = Question(ROOM, f"{binary(over)} do not fit. Games come in their order, each with all that belongs to it, "
                     "until there is no more room.", ("decide", WHAT_FITS), 7900.0, len(placed))
    if gone < over or len(out) == len(groups):
        return [whole]
    return [Question(f"{GROUP}{BETWEEN.join(out)}", f"{binary(over)} do not fit. Without {listed(out)} "
                     f"({binary(gone)}) the rest does.", ("decide", LEAVE_OUT), 8000.0, len(placed)), whole]


def _last(path: str) -> str:
    return path.rpartition("/")[2]
