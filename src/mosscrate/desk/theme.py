"""Colours of the bench, dark and light. Every pair of text and ground passes WCAG AA (a test checks)."""

from __future__ import annotations

from typing import TYPE_CHECKING, NamedTuple

from PyQt6.QtCore import Qt
from PyQt6.QtGui import QColor, QGuiApplication, QPalette
from PyQt6.QtWidgets import QApplication

if TYPE_CHECKING:                          # the core is loaded after the first window is painted
    from mosscrate.core.contents import Role
    from mosscrate.core.findings import Severity


class Theme(NamedTuple):
    """One set of colours, as #rrggbb."""

    name: str
    ground: str            # the window
    rail: str              # the stations at its left edge
    panel: str
    raised: str            # buttons, chips
    line: str
    edge: str              # of what is filled in: seen without a hover
    text: str
    muted: str
    accent: str
    on_accent: str
    good: str
    note: str
    warning: str
    problem: str
    firmware: str
    roms: str
    saves: str
    settings: str
    storage: str
    unknown: str

    def role(self, role: Role) -> QColor:
        """The colour of a partition's role."""
        return QColor(getattr(self, role.value))

    def severity(self, severity: Severity) -> QColor:
        """The colour of a finding."""
        return QColor(getattr(self, severity.value))


DARK = Theme("dark", ground="#1f231f", rail="#191c19", panel="#282d28", raised="#353b35", line="#434a42",
             edge="#757d71", text="#eceee6", muted="#aab2a4", accent="#b4cf72", on_accent="#1b2012", good="#b4cf72",
             note="#a9bcc8", warning="#e9b457", problem="#f08f7a", firmware="#58829c", roms="#7c9c4c", saves="#c08f35",
             settings="#b0694e", storage="#8579a5", unknown="#7d8379")
LIGHT = Theme("light", ground="#f1f1ea", rail="#e3e5da", panel="#fbfbf6", raised="#e6e8dd", line="#c3c8b8",
              edge="#80867a", text="#1f241c", muted="#565d50", accent="#4a6418", on_accent="#fbfcf4", good="#4a6418",
              note="#3b5a6b", warning="#855400", problem="#a83220", firmware="#86b0c9", roms="#a3c072", saves="#e0b45c",
              settings="#d69a80", storage="#b3a8d1", unknown="#b4b9ac")


class Look:
    """The theme in use; widgets ask for it while painting, so that a change needs a repaint only."""

    now: Theme = DARK


def color(name: str) -> QColor:
    """A colour of the theme in use by its field name."""
    return QColor(getattr(Look.now, name))


def wanted_theme(choice: str) -> Theme:
    """The theme for "dark", "light" or "desktop"."""
    if choice in ("dark", "light"):
        return DARK if choice == "dark" else LIGHT
    return LIGHT if QGuiApplication.palette().window().color().lightness() > 127 else DARK


def follow_desktop(app: QApplication) -> None:
    """Change with the desktop from now on."""
    from PyQt6.QtCore import Qt

    def change(scheme: Qt.ColorScheme) -> None:
        apply(app, LIGHT if scheme == Qt.ColorScheme.Light else DARK)

    if hints := app.styleHints():
        hints.colorSchemeChanged.connect(change)


def apply(app: QApplication, theme: Theme) -> None:
    """Put a theme on the whole application."""
    apply_sheet(app, theme)
    apply_palette(app)


def apply_sheet(app: QApplication, theme: Theme) -> None:
    """The style sheet alone: enough for the first window, and forty milliseconds quicker.

    The first QColor that Python hands to Qt builds every enumeration of the Qt namespace; a sheet
    is read by Qt itself.
    """
    Look.now = theme
    app.setStyleSheet(_sheet(theme))


def apply_palette(app: QApplication) -> None:
    """The colours of everything that the sheet does not name."""
    theme, palette = Look.now, QPalette()
    roles = QPalette.ColorRole
    for role, name in ((roles.Window, "ground"), (roles.Base, "panel"), (roles.AlternateBase, "ground"),
                       (roles.Button, "raised"), (roles.WindowText, "text"), (roles.Text, "text"),
                       (roles.ButtonText, "text"), (roles.ToolTipBase, "raised"), (roles.ToolTipText, "text"),
                       (roles.PlaceholderText, "muted"), (roles.Highlight, "accent"),
                       (roles.HighlightedText, "on_accent"), (roles.Link, "accent"), (roles.Mid, "line")):
        palette.setColor(role, QColor(getattr(theme, name)))
    for role in (roles.ButtonText, roles.Text, roles.WindowText):
        palette.setColor(QPalette.ColorGroup.Disabled, role, QColor(theme.muted))
    app.setPalette(palette)


def _sheet(theme: Theme) -> str:
    sheet = _STYLE
    for name, value in zip(theme._fields, theme, strict=True):
        sheet = sheet.replace(f"@{name}@", value)
    return sheet


_STYLE = """
QMainWindow { background: @ground@; }
QFrame#shell-rail { background: @rail@; }
QFrame#shell-rail QLabel, QLabel#waiting { color: @muted@; }
QFrame[panel="true"] { background: @panel@; border: 1px solid @line@; border-radius: 8px; }
QLabel { background: transparent; }
QLabel[muted="true"] { color: @muted@; }
QLabel[warning="true"] { color: @warning@; }
QLabel[problem="true"] { color: @problem@; }
QLabel[good="true"] { color: @good@; }
QPushButton { background: @raised@; color: @text@; border: 1px solid @line@; border-radius: 6px; padding: 7px 14px; }
QPushButton:hover { border-color: @muted@; }
QPushButton:focus { border: 2px solid @accent@; padding: 6px 13px; }
QPushButton:disabled { color: @muted@; background: @panel@; }
QPushButton[primary="true"] { background: @accent@; color: @on_accent@; border-color: @accent@; font-weight: 600; }
QPushButton[primary="true"]:focus { border: 2px solid @text@; }
QPushButton[primary="true"]:disabled { background: @raised@; color: @muted@; border-color: @line@; }
QPushButton[quiet="true"] { background: transparent; border-color: transparent; color: @accent@; padding: 3px 6px; }
QPushButton[compact="true"] { padding: 4px 6px; }
QPushButton[compact="true"]:focus { padding: 3px 5px; }
QPushButton:checked { background: @panel@; border-color: @accent@; }
QPushButton[quiet="true"]:focus { border: 2px solid @accent@; padding: 2px 5px; }
QLineEdit, QComboBox { background: @ground@; color: @text@; border: 1px solid @edge@; border-radius: 6px;
    padding: 5px 8px; selection-background-color: @accent@; selection-color: @on_accent@; }
QLineEdit:focus, QComboBox:focus { border: 2px solid @accent@; padding: 4px 7px; }
QComboBox::drop-down { border: 0; width: 20px; }
QComboBox::down-arrow { width: 0; height: 0; border-left: 4px solid @ground@; border-right: 4px solid @ground@;
    border-top: 5px solid @muted@; }
QComboBox QAbstractItemView { background: @panel@; color: @text@; border: 1px solid @line@;
    selection-background-color: @raised@; selection-color: @text@; outline: 0; padding: 4px; }
QTreeView { background: transparent; border: 0; outline: 0; selection-background-color: @raised@;
    selection-color: @text@; }
QTreeView::item { padding: 3px 0; }
QTreeView::item:selected, QListWidget::item:selected, QTableView::item:selected { background: @raised@; color: @text@; }
QListWidget { outline: 0; }
QListWidget::item { padding: 3px 4px; }
QHeaderView::section { background: transparent; color: @muted@; border: 0; padding: 4px 6px; }
QScrollArea { background: transparent; border: 0; }
QAbstractScrollArea::corner { background: transparent; border: 0; }
QScrollBar:vertical { background: transparent; width: 10px; margin: 0; }
QScrollBar::handle:vertical { background: @line@; border-radius: 5px; min-height: 28px; }
QScrollBar:horizontal { background: transparent; height: 10px; margin: 0; }
QScrollBar::handle:horizontal { background: @line@; border-radius: 5px; min-width: 28px; }
QScrollBar::add-line, QScrollBar::sub-line, QScrollBar::add-page, QScrollBar::sub-page { background: none; border: 0;
    width: 0; height: 0; }
QToolTip { background: @raised@; color: @text@; border: 1px solid @line@; padding: 4px; }
QCheckBox { spacing: 8px; }
QMenu { background: @panel@; color: @text@; border: 1px solid @line@; padding: 4px; }
QMenu::item { padding: 5px 18px; border-radius: 4px; }
QMenu::item:selected { background: @raised@; }
"""
