"""The commands of the shell in the order of the work, each with the module that is loaded when it is called.

The help lines stand here so that `--help` loads none of them; a test holds them to what the commands say.
"""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True)
class Entry:
    """One command: its name, the module in `mosscrate.cli` that has it among its `COMMANDS`, its line of help."""

    name: str
    module: str
    help: str


@dataclass(frozen=True)
class Group:
    """Commands of one kind of work, under its title."""

    title: str
    entries: tuple[Entry, ...]


GROUPS = (
    Group("Look", (
        Entry("slots", "attached", "List the cards and drives at hand."),
        Entry("look", "commands", "Show what is on a MEDIUM: map, partitions, volumes, and what was noticed."),
        Entry("files", "commands", "List every file and folder of a partition."),
        Entry("get", "commands", "Take the file or folder at PATH out of a partition."),
        Entry("identify", "filling", "What files are, by header, contents, ending and folder, with the reason."),
        Entry("machines", "commands", "List the machines that a card can be meant for."),
    )),
    Group("Back up and restore", (
        Entry("keep", "commands",
              "Back up what is in use on a MEDIUM under today's date; the crate stores equal data once."),
        Entry("crate", "crating", "List what is kept, card by card; look through it, compare it, check it."),
        Entry("rescue", "rescuing",
              "Read a failing CARD, what is worth most for the time first; it is never written."),
    )),
    Group("Write, move and change cards", (
        Entry("write", "commands", "Write an IMAGE (or another card) onto MEDIUM and read it back."),
        Entry("prepare", "preparing",
              "Lay a MEDIUM out anew for a purpose, with FILES on it. What is on it is lost, unless it is kept first."),
        Entry("refresh", "arranging",
              "Put the firmware of an IMAGE over that of a CARD; games and saves on other partitions stay as "
              "they are."),
        Entry("sheet", "sheets",
              "Plan a job, look at it, rehearse it, run it; finish or undo one that was interrupted."),
    )),
    Group("Change files on a card", (
        Entry("put", "filing", "Put files and folders of this computer into a folder of a volume."),
        Entry("copy", "filing", "Copy a file or folder to another name or folder of its volume."),
        Entry("rename", "filing", "Give a file or folder another name or another folder."),
        Entry("regroup", "filing", "Move or rename many files of a volume at once; nothing is copied."),
        Entry("remove", "filing", "Remove files, or folders with all that is in them."),
        Entry("folder", "filing", "Make a folder, and those above it where they are missing."),
        Entry("folders", "filing", "Make many folders, and those above them where they are missing."),
        Entry("traits", "filing", "Set comment, protection bits or date of a file on OFS or FFS."),
    )),
    Group("Fill with games", (
        Entry("fill", "pouring",
              "Sort what is in PLACES to where a CARD wants it, and show what goes where, what is asked, what does "
              "not fit."),
        Entry("lay-over", "pouring",
              "Lay folders and archives over a CARD as they are: what they add, replace, and what is there."),
        Entry("plans", "filling", "Folder plans: what cards expect where."),
        Entry("lists", "filling", "Your own lists of checksums, and what each knows."),
    )),
    Group("Make and convert files", (
        Entry("convert", "converting",
              "Make a new FILE of a SOURCE: in another kind of file, swapped, one partition of it, or all below "
              "another map."),
        Entry("image", "converting", "Make the image FILE of a blank drive of a SIZE such as 500MB."),
        Entry("floppy", "converting", "Make the image FILE of an empty floppy disk."),
    )),
    Group("Prove a card", (
        Entry("proof", "proving",
              "Prove whether a CARD is as large as it says and can be read everywhere; everything on it stays."),
    )),
    Group("Take a card out", (
        Entry("unmount", "attached", "Unmount everything that is mounted of a CARD, so that it can be written."),
        Entry("eject", "attached",
              "Unmount everything of a CARD, eject it where its reader can, and say whether you can take it out."),
    )),
    Group("Other", (
        Entry("install-desktop", "installing",
              "Put the program into your desktop's menu, and its completions into your shells."),
        Entry("demo", "commands", "Build the Heron Lane bench and move its worn card onto a larger one."),
    )),
)
COMMANDS = tuple(entry for group in GROUPS for entry in group.entries)
