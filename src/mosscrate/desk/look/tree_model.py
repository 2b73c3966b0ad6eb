"""The files of one partition for a tree view."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, field
from datetime import UTC, datetime
from typing import Any

from PyQt6.QtCore import QAbstractItemModel, QMimeData, QModelIndex, QObject, Qt

from mosscrate.core.contents.files import FileKind, kind_of
from mosscrate.core.shown import shown
from mosscrate.core.sizes import binary, exact
from mosscrate.core.volumes import Entry, Kind, Tree
from mosscrate.core.volumes.ffs import protection_text
from mosscrate.desk.shared.files_in_hand import MIME, FilesInHand
from mosscrate.desk.shared.words import tip
from mosscrate.desk.theme import color

COLUMNS = ("name", "size", "changed")
_INK = {FileKind.SAVE: "warning", FileKind.FIRMWARE: "note"}


@dataclass(slots=True, eq=False)
class Node:
    """One row; folders first, then by name."""

    entry: Entry | None
    parent: Node | None = None
    children: list[Node] = field(default_factory=list)
    row: int = 0
    is_read: bool = True                 # in full


class TreeModel(QAbstractItemModel):
    """A whole tree as read; its nodes are built beside the window.

    Its rows can be dragged: they are then of partition `partition` of the medium with `key`.
    """

    def __init__(self, root: Node, key: str = "", partition: int = 0, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self.root, self.key, self.partition = root, key, partition

    def entry(self, index: QModelIndex) -> Entry | None:
        """The entry of a row."""
        node = index.internalPointer() if index.isValid() else None
        return node.entry if isinstance(node, Node) else None

    def find(self, path: str) -> QModelIndex:
        """The row of a path; an invalid one where nothing is there."""
        node = self.root
        for name in path.split("/"):
            found = next((child for child in node.children if child.entry and child.entry.name == name), None)
            if found is None:
                return QModelIndex()
            node = found
        return self.createIndex(node.row, 0, node)

    def flags(self, index: QModelIndex) -> Qt.ItemFlag:
        """Qt."""
        return super().flags(index) | Qt.ItemFlag.ItemIsDragEnabled

    def mimeTypes(self) -> list[str]:
        """Qt."""
        return [MIME]

    def mimeData(self, indexes: Iterable[QModelIndex]) -> QMimeData | None:
        """Qt: what is dragged; nothing where the model does not know of which medium it is."""
        entries = self.outermost(indexes)
        if not entries or not self.key:
            return None
        return FilesInHand(self.key, self.partition, tuple(e.path for e in entries),
                           any(e.kind == Kind.FOLDER for e in entries)).packed()

    def outermost(self, indexes: Iterable[QModelIndex]) -> list[Entry]:
        """Entries of rows in their order, without those that lie in a folder that is among them."""
        found = {e.path: e for index in indexes if (e := self.entry(index)) is not None}
        folders = [path + "/" for path, e in found.items() if e.kind == Kind.FOLDER]
        return [e for path, e in found.items() if not path.startswith(tuple(folders))]

    def index(self, row: int, column: int, parent: QModelIndex | None = None) -> QModelIndex:
        """Qt."""
        children = self._node(parent).children
        return self.createIndex(row, column, children[row]) if 0 <= row < len(children) else QModelIndex()

    def parent(self, index: QModelIndex | None = None) -> Any:  # noqa: ANN401 - Qt overloads it
        """Qt."""
        if index is None:
            return super().parent()
        above = self._node(index).parent
        return QModelIndex() if above is None or above.parent is None else self.createIndex(above.row, 0, above)

    def rowCount(self, parent: QModelIndex | None = None) -> int:
        """Qt."""
        return len(self._node(parent).children)

    def columnCount(self, parent: QModelIndex | None = None) -> int:
        """Qt."""
        return len(COLUMNS)

    def headerData(self, section: int, orientation: Qt.Orientation, role: int = Qt.ItemDataRole.DisplayRole) -> Any:  # noqa: ANN401
        """Qt."""
        if orientation == Qt.Orientation.Horizontal and role == Qt.ItemDataRole.DisplayRole:
            return COLUMNS[section]
        return None

    def data(self, index: QModelIndex, role: int = Qt.ItemDataRole.DisplayRole) -> Any:  # noqa: ANN401
        """Qt."""
        entry = self.entry(index)
        if entry is None:
            return None
        match role:
            case Qt.ItemDataRole.DisplayRole:
                return shown(_text(entry, self._node(index), index.column()))
            case Qt.ItemDataRole.ToolTipRole:
                return tip("\n".join((entry.path, exact(entry.size), *_own_words(entry))))
            case Qt.ItemDataRole.TextAlignmentRole if index.column() == 1:
                return Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter
            case Qt.ItemDataRole.ForegroundRole:
                if index.column() or entry.is_hidden:
                    return color("muted")
                return color(_INK.get(kind_of(entry), "text")) if entry.kind == Kind.FILE else color("text")
        return None

    def _node(self, index: QModelIndex | None) -> Node:
        node = index.internalPointer() if index is not None and index.isValid() else None
        return node if isinstance(node, Node) else self.root


def nodes_of(tree: Tree) -> Node:
    """The rows of a tree, above them a root without an entry."""
    root = Node(None)
    folders = {"": root}
    for entry in tree.entries:
        above = folders.get(entry.path.rpartition("/")[0], root)
        node = Node(entry, above)
        above.children.append(node)
        if entry.kind == Kind.FOLDER:
            folders[entry.path] = node
    for finding in tree.findings:
        folders.get(finding.where, root).is_read = False
    for folder in folders.values():
        folder.children.sort(key=lambda n: (n.entry.kind != Kind.FOLDER, n.entry.name.casefold()) if n.entry else ())
        for number, node in enumerate(folder.children):
            node.row = number
    return root


def _own_words(entry: Entry) -> tuple[str, ...]:
    """What only OFS and FFS, or only HFS, keep of a file."""
    if entry.protection is None:
        return (f"and a resource fork of {exact(entry.resource)}",) if entry.resource else ()
    return (protection_text(entry.protection), *((f"“{entry.comment}”",) if entry.comment else ()))


def _inside(node: Node) -> str:
    if node.is_read:
        return f"{len(node.children)} in it"
    return f"in part, {len(node.children)}" if node.children else "not read"


def _sizes(entry: Entry) -> str:
    return f"{binary(entry.size)} + {binary(entry.resource)}" if entry.resource else binary(entry.size)


def _text(entry: Entry, node: Node, column: int) -> str:
    if column == 0:
        return entry.name
    if column == 1:
        return _inside(node) if entry.kind == Kind.FOLDER else _sizes(entry)
    return f"{datetime.fromtimestamp(entry.modified, UTC):%d %b %Y}" if entry.modified is not None else ""
