"""Look: named tokens fill one palette and one style sheet; no colour literal stands elsewhere in the window."""

from __future__ import annotations

import tempfile
from dataclasses import dataclass
from functools import lru_cache
from pathlib import Path

from PySide6.QtCore import QByteArray, QSize, Qt
from PySide6.QtGui import QColor, QFont, QFontDatabase, QIcon, QPainter, QPalette, QPixmap
from PySide6.QtSvg import QSvgRenderer
from PySide6.QtWidgets import QApplication, QWidget

__all__ = ["DARK", "LIGHT", "Theme", "apply_theme", "dress", "icon", "theme", "tabular_font"]

ASSETS = Path(__file__).parent / "assets"


@dataclass(frozen=True, slots=True)
class Theme:
    """The tokens. `accent` is where pixels go and what is active, `source` where they come from, always."""

    surround: str
    panel: str
    card: str
    raised: str
    line: str
    text: str
    quiet: str
    accent: str
    accent_text: str
    source: str
    look_here: str


DARK = Theme(
    surround="#3a3a3a", panel="#2a2a2a", card="#363636", raised="#444444", line="#505050", text="#e6e6e6",
    quiet="#a8a8a8", accent="#f09aa6", accent_text="#241a1c", source="#86d1b0", look_here="#e6b450",
)  # fmt: skip
LIGHT = Theme(
    surround="#3a3a3a", panel="#d8d8d8", card="#e6e6e6", raised="#f2f2f2", line="#b4b4b4", text="#1e1e1e",
    quiet="#565656", accent="#a83a4e", accent_text="#ffffff", source="#1f6b4b", look_here="#7a5200",
)  # fmt: skip

_current = DARK


def theme() -> Theme:
    """Return the theme that is in use."""
    return _current


@lru_cache(maxsize=1)
def _tinted_folder() -> tempfile.TemporaryDirectory[str]:
    return tempfile.TemporaryDirectory(prefix="gommage-")


@lru_cache(maxsize=32)
def _tinted(name: str, colour: str) -> str:
    """Return the path of an icon in a colour: style sheets take pictures from files alone. Empty on a full disk."""
    try:
        path = Path(_tinted_folder().name) / f"{name}-{colour.lstrip('#')}.svg"
        path.write_text(_svg(name, colour))
    except OSError:
        return ""
    return path.as_posix()


def _svg(name: str, colour: str) -> str:
    return (ASSETS / "icons" / f"{name}.svg").read_text().replace("currentColor", colour)


def _sheet(t: Theme) -> str:
    return f"""
    * {{ font-family: Inter; font-size: 9.5pt; color: {t.text}; }}
    QMainWindow, QDialog, QWidget#panel, QScrollArea, QScrollArea > QWidget > QWidget {{ background: {t.panel}; }}
    QLabel {{ background: transparent; }}
    QLabel[quiet="true"] {{ color: {t.quiet}; }}
    QLabel[heading="true"] {{ font-weight: 600; }}
    QLabel[lookHere="true"] {{ color: {t.look_here}; }}
    QToolTip {{ background: {t.raised}; color: {t.text}; border: 1px solid {t.line}; padding: 4px; }}
    QPushButton, QToolButton {{ background: {t.raised}; border: 1px solid {t.line}; border-radius: 4px;
        padding: 4px 10px; min-height: 18px; }}
    QToolButton {{ padding: 3px; background: transparent; border-color: transparent; }}
    QToolButton:hover, QPushButton:hover {{ border-color: {t.quiet}; }}
    QPushButton:default, QPushButton[primary="true"] {{ background: {t.accent}; color: {t.accent_text};
        border-color: {t.accent}; font-weight: 600; }}
    QPushButton[primary="true"]:disabled {{ background: {t.card}; color: {t.quiet}; border-color: {t.line}; }}
    QToolButton:checked, QPushButton:checked {{ background: {t.raised}; border: 1px solid {t.accent}; }}
    QToolButton[fold="true"]:checked {{ background: transparent; border-color: transparent; }}
    QPushButton:disabled, QToolButton:disabled, QLabel:disabled {{ color: {t.quiet}; }}
    *:focus {{ outline: none; }}
    QPushButton:focus, QToolButton:focus, QComboBox:focus, QLineEdit:focus, QAbstractSpinBox:focus
        {{ border: 1px solid {t.accent}; }}
    QComboBox, QLineEdit, QAbstractSpinBox {{ background: {t.card}; border: 1px solid {t.line}; border-radius: 4px;
        padding: 3px 6px; min-height: 18px; selection-background-color: {t.accent};
        selection-color: {t.accent_text}; }}
    QComboBox::drop-down {{ border: none; width: 22px; }}
    QComboBox::down-arrow {{ image: url({_tinted("chevron-down", t.quiet)}); width: 12px; height: 12px; }}
    QComboBox QAbstractItemView {{ background: {t.raised}; selection-background-color: {t.accent};
        selection-color: {t.accent_text}; border: 1px solid {t.line}; }}
    QMenuBar, QMenu {{ background: {t.panel}; }}
    QMenuBar::item {{ padding: 4px 9px; background: transparent; }}
    QMenuBar::item:selected, QMenu::item:selected {{ background: {t.raised}; }}
    QMenu {{ border: 1px solid {t.line}; }}
    QFrame#popup {{ background: {t.panel}; border: 1px solid {t.quiet}; border-radius: 4px; }}
    QMenu::item {{ padding: 5px 24px 5px 12px; }}
    QMenu::item:disabled {{ color: {t.quiet}; }}
    QMenu::separator {{ height: 1px; background: {t.line}; margin: 4px 8px; }}
    QSlider::groove:horizontal {{ height: 4px; background: {t.line}; border-radius: 2px; }}
    QSlider::sub-page:horizontal {{ background: {t.quiet}; border-radius: 2px; }}
    QSlider::handle:horizontal {{ width: 12px; height: 12px; margin: -5px 0; border-radius: 6px;
        background: {t.text}; }}
    QSlider::handle:horizontal:focus {{ background: {t.accent}; }}
    QCheckBox::indicator {{ width: 14px; height: 14px; border: 1px solid {t.quiet}; border-radius: 3px;
        background: {t.card}; }}
    QCheckBox::indicator:checked {{ background: {t.accent}; border-color: {t.accent};
        image: url({_tinted("check", t.accent_text)}); }}
    QCheckBox::indicator:disabled {{ border-color: {t.line}; background: {t.panel}; }}
    QCheckBox:focus {{ color: {t.accent}; }}
    QListView {{ background: {t.panel}; border: none; }}
    QListView::item {{ padding: 4px 6px; border-radius: 4px; }}
    QListView::item:selected {{ background: {t.card}; color: {t.text}; border: 1px solid {t.accent}; }}
    QTableView {{ background: {t.card}; border: 1px solid {t.line}; border-radius: 4px; outline: none; }}
    QTableView::item {{ padding: 0 8px; border: none; }}
    QTableView::item:selected {{ background: {t.raised}; color: {t.text};
        border-bottom: 1px solid {t.accent}; }}
    QHeaderView::section {{ background: {t.panel}; color: {t.quiet}; border: none; padding: 3px 8px;
        border-bottom: 1px solid {t.line}; }}
    QPlainTextEdit {{ background: {t.card}; border: 1px solid {t.line}; border-radius: 4px; }}
    QFrame#advice {{ background: {t.card}; border-left: 3px solid {t.line}; border-radius: 4px; }}
    QFrame#advice[state="urgent"] {{ border-left: 3px solid {t.look_here}; }}
    QFrame#advice[state="empty"] {{ background: {t.panel}; border-left: 3px solid {t.panel}; }}
    QDialogButtonBox {{ dialogbuttonbox-buttons-have-icons: 0; }}
    QToolButton[wide="true"] {{ padding: 4px 22px 4px 10px; background: {t.raised}; border: 1px solid {t.line}; }}
    QToolButton[wide="true"]::menu-indicator {{ image: url({_tinted("chevron-down", t.quiet)});
        width: 11px; height: 11px; subcontrol-position: right center; subcontrol-origin: padding; right: 7px; }}
    QFrame#start {{ background: {t.card}; border: 1px solid {t.card}; border-radius: 6px; }}
    QFrame#start:hover, QFrame#start:focus {{ border: 1px solid {t.accent}; }}
    QFrame#rule {{ background: {t.line}; max-height: 1px; min-height: 1px; border: none; }}
    QProgressBar {{ background: {t.card}; border: 1px solid {t.line}; border-radius: 4px; height: 14px;
        text-align: center; }}
    QProgressBar::chunk {{ background: {t.accent}; border-radius: 3px; }}
    QScrollBar:vertical {{ background: {t.panel}; width: 10px; }}
    QScrollBar::handle:vertical {{ background: {t.line}; border-radius: 4px; min-height: 24px; }}
    QScrollBar::add-line, QScrollBar::sub-line {{ height: 0; width: 0; }}
    """


def apply_theme(application: QApplication, chosen: Theme = DARK) -> None:
    """Give an application its typeface, its style and its palette; its windows are dressed one by one."""
    global _current
    _current = chosen
    for file in sorted((ASSETS / "fonts").glob("*.otf")):
        QFontDatabase.addApplicationFont(str(file))
    application.setStyle("Fusion")
    application.setFont(QFont("Inter", 10))
    palette = QPalette()
    for role, colour in (
        (QPalette.ColorRole.Window, chosen.panel),
        (QPalette.ColorRole.WindowText, chosen.text),
        (QPalette.ColorRole.Base, chosen.card),
        (QPalette.ColorRole.AlternateBase, chosen.raised),
        (QPalette.ColorRole.Text, chosen.text),
        (QPalette.ColorRole.Button, chosen.raised),
        (QPalette.ColorRole.ButtonText, chosen.text),
        (QPalette.ColorRole.Highlight, chosen.accent),
        (QPalette.ColorRole.HighlightedText, chosen.accent_text),
        (QPalette.ColorRole.PlaceholderText, chosen.quiet),
    ):
        palette.setColor(role, QColor(colour))
    application.setPalette(palette)


def dress(window: QWidget) -> None:
    """Give a window, and all that is or comes to be within it, the style sheet of the theme in use.

    Once it is put together: a sheet that is there before is gone through for every widget that joins another, which
    more than doubles the time that a window takes.
    """
    window.setStyleSheet(_sheet(_current))


def tabular_font(points: float = 9.0) -> QFont:
    """Return the typeface with figures of equal width, for frame numbers."""
    font = QFont("Inter")
    font.setPointSizeF(points)
    font.setFeature(QFont.Tag("tnum"), 1)
    return font


@lru_cache(maxsize=128)
def icon(name: str, colour: str = "", size: int = 18) -> QIcon:
    """Return an icon of the shipped set in a colour (the text's if none is given), sharp at twice the size too."""
    renderer = QSvgRenderer(QByteArray(_svg(name, colour or _current.text).encode()))
    out = QIcon()
    for scale in (1, 2):
        pixmap = QPixmap(QSize(size, size) * scale)
        pixmap.fill(Qt.GlobalColor.transparent)
        painter = QPainter(pixmap)
        renderer.render(painter)
        painter.end()
        pixmap.setDevicePixelRatio(scale)
        out.addPixmap(pixmap)
    return out
