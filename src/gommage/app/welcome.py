"""The first view: ways to begin, one's last projects, the paper theatre's shots, each with its picture and trouble."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from pathlib import Path

from PySide6.QtCore import QSize, Qt, Signal
from PySide6.QtGui import QAction, QKeyEvent, QMouseEvent, QPixmap
from PySide6.QtWidgets import QFrame, QGridLayout, QHBoxLayout, QLabel, QVBoxLayout, QWidget

from gommage.app.look.controls import heading, push_button, quiet
from gommage.app.look.theme import ASSETS
from gommage.app.recent import Recent

__all__ = ["Welcome"]

THEATRE = (
    (
        "Price label",
        "A sticker on a column; what is behind it is never seen. The camera moves, the lantern dims.",
        "theatre-label.png",
        "open_demo",
    ),
    (
        "Crosses of tape",
        "Crosses on a sky, behind a puppet's paper hair and a swinging lantern that have to stay in front.",
        "theatre-crosses.png",
        "open_crosses",
    ),
    (
        "Old reel",
        "A camera over a sky; dust and hairs on single frames, and one scratch through forty of them.",
        "theatre-reel.png",
        "open_reel",
    ),
    (
        "Stage hand",
        "The camera is locked off; an arm crosses with its shadow, and no frame is clean everywhere.",
        "theatre-stage-hand.png",
        "open_stage_hand",
    ),
    (
        "Passer-by",
        "A camera in a hand; a man walks through, and the exposure drifts. Other frames show what he hides.",
        "theatre-passer-by.png",
        "open_passer_by",
    ),
    (
        "Moth on a rod",
        "A dolly past two backdrops; the lantern flickers, and where the rod is clamped no frame is clean.",
        "theatre-moth.png",
        "open_moth",
    ),
)
PICTURE = QSize(144, 81)
MOST_RECENT = 3


class Tile(QFrame):
    """Something to begin with: a picture, a name, a line about it."""

    pressed = Signal()

    def __init__(self, name: str, words: str, picture: Path | None) -> None:
        super().__init__()
        self.setObjectName("start")
        self.setAccessibleName(name)
        self.setToolTip(f"Open {name}")
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setCursor(Qt.CursorShape.PointingHandCursor)
        self.setFixedWidth(440)
        shown = QLabel()
        shown.setFixedSize(PICTURE)
        pixmap = QPixmap(str(picture)) if picture is not None else QPixmap()
        if not pixmap.isNull():
            mode = Qt.AspectRatioMode.KeepAspectRatioByExpanding
            shown.setPixmap(pixmap.scaled(PICTURE, mode, Qt.TransformationMode.SmoothTransformation))
        text = QVBoxLayout()
        text.addWidget(heading(name))
        text.addWidget(quiet(words))
        text.addStretch()
        row = QHBoxLayout(self)
        row.setContentsMargins(8, 8, 12, 8)
        row.setSpacing(12)
        row.addWidget(shown)
        row.addLayout(text, 1)

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        if event.button() == Qt.MouseButton.LeftButton and self.rect().contains(event.position().toPoint()):
            self.pressed.emit()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter, Qt.Key.Key_Space):
            self.pressed.emit()
        else:
            super().keyPressEvent(event)


class Welcome(QWidget):
    """Stands in the picture's place while nothing is open."""

    project_chosen = Signal(object)

    def __init__(self, action: Callable[[str], QAction]) -> None:
        super().__init__()
        self._action = action
        column = QVBoxLayout(self)
        column.setSpacing(8)
        buttons = QHBoxLayout()
        for name in ("open_footage", "open_project"):
            one = action(name)
            button = push_button(one.text(), one.trigger, primary=name == "open_footage", tip=one.toolTip())
            button.setMinimumWidth(216)
            buttons.addWidget(button)
        column.addLayout(buttons)
        column.addSpacing(12)
        self._recent_title = heading("Last projects")
        self._recent = QVBoxLayout()
        self._recent.setSpacing(6)
        column.addWidget(self._recent_title)
        column.addLayout(self._recent)
        column.addSpacing(6)
        column.addWidget(heading("The paper theatre, to try everything on"))
        tiles = QGridLayout()
        tiles.setSpacing(8)
        for number, (name, words, picture, opens) in enumerate(THEATRE):
            tile = Tile(name, words, ASSETS / "pictures" / picture)
            tile.pressed.connect(action(opens).trigger)
            tiles.addWidget(tile, *divmod(number, 2))
        column.addLayout(tiles)
        self.show_recent(())

    def show_recent(self, projects: tuple[Recent, ...]) -> None:
        """Show one's last projects."""
        while (item := self._recent.takeAt(0)) is not None:
            widget = item.widget()
            if widget is not None:
                widget.deleteLater()
        self._recent_title.setVisible(bool(projects))
        for project in projects[:MOST_RECENT]:
            tile = Tile(project.folder.stem, f"in {project.folder.parent.name}", project.picture)
            tile.pressed.connect(partial(self.project_chosen.emit, project.folder))
            self._recent.addWidget(tile)
