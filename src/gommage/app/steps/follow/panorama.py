"""Panoramas: looking round, flat views to work in, the turn of the camera, which way is up."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from typing import Any

import numpy as np
from PySide6.QtWidgets import QFormLayout

from gommage.app.desk import on_shot
from gommage.app.hands.names import free_name
from gommage.app.look.controls import DragNumber, Section, push_button, quiet, spaced
from gommage.app.picture.viewer import Viewer
from gommage.app.session import Session
from gommage.app.work import Work
from gommage.core.document import Shot, Sphere, edits
from gommage.core.engine import follow_sphere, levelled_by, panorama_view
from gommage.core.geometry import Matrix, places_of_directions

__all__ = ["PanoramaCommands", "PanoramaPart"]

WIDEST_DEG, NARROWEST_DEG = 110.0, 20.0
STRAIGHT_SHARE = 0.06
"""A view whose middle is so near a pole is named after it."""
MARGIN = 1.15
"""A flat view to work in is so much wider than what is looked at: its rim is where covers end."""


class PanoramaCommands:
    """One method for each action of the table that belongs to panoramas."""

    def __init__(self, session: Session, work: Work, viewer: Viewer) -> None:
        self._session, self._work, self._viewer = session, work, viewer

    @property
    def _panorama(self) -> Shot | None:
        return _panorama_of(self._session)

    # -- looking ----------------------------------------------------------------------------------------------

    def look_down(self) -> None:
        """Look straight down."""
        self._look(1.0)

    def look_up(self) -> None:
        """Look straight up."""
        self._look(0.0)

    def look_level(self) -> None:
        """Look at the horizon."""
        self._look(0.5)

    def _look(self, share: float) -> None:
        panorama = self._panorama
        if panorama is None:
            self._session.error_shown.emit("This shot is no panorama: it is seen as a whole.")
            return
        self.to_panorama()
        framing = self._viewer.framing
        self._viewer.show_around(framing.x, share * panorama.footage.height, framing.zoom)

    # -- views ------------------------------------------------------------------------------------------------

    def work_here(self) -> None:
        """Make what is looked at a flat view, and work in it."""
        panorama, shot, framing = self._panorama, self._session.shot, self._viewer.framing
        if panorama is None or shot is None or shot.id != panorama.id:
            return
        footage = panorama.footage
        focal = framing.zoom * footage.width / (2 * np.pi)
        wide = 2 * np.rad2deg(np.arctan(max(framing.width, framing.height) / 2 * MARGIN / focal))
        share = framing.y / footage.height
        kind = "Down" if share > 1 - STRAIGHT_SHARE else "Up" if share < STRAIGHT_SHARE else "View"
        view = panorama_view(
            panorama, framing.x, framing.y, float(np.clip(wide, NARROWEST_DEG, WIDEST_DEG)),
            free_name(kind, panorama.views), roll_deg=framing.turn_deg,
        )  # fmt: skip
        if self._session.commit(f"Work in {view.name}", edits.add_view, panorama.id, view):
            self.go_to_view(view.id)
            self._session.note_shown.emit(f"{view.name} is flat: all tools work in it. Alt+Y leads back.")

    def settle(self) -> None:
        """Work in a flat view, if a panorama is on the desk: hands work in flat pictures."""
        shot = self._session.shot
        if shot is not None and shot.footage.is_panorama:
            self.work_here()

    def to_panorama(self) -> None:
        """Go back to the panorama."""
        panorama, shot = self._panorama, self._session.shot
        if panorama is not None and shot is not None and shot.id != panorama.id:
            self.go_to_view(panorama.id)

    def go_to_view(self, shot_id: str) -> None:
        """Take a view, or the panorama itself, on the desk."""
        before, shot = self._session.shot, self._session.project.shot(shot_id)
        self._session.set_desk(**on_shot(shot, self._session.desk.frame))
        self._viewer.fit(shot.footage.width, shot.footage.height)
        turned = before.footage.turned if before is not None else None
        if shot.footage.is_panorama and turned is not None:  # one goes on looking where one was
            forward = _level_of(shot) @ turned.turn.values[2]
            x, y = places_of_directions(forward, (shot.footage.width, shot.footage.height))
            self._viewer.show_around(float(x), float(y), self._viewer.zoom)

    def remove_view(self) -> None:
        """Take the view on the desk off the panorama, with what was done in it."""
        panorama, shot = self._panorama, self._session.shot
        if panorama is None or shot is None or shot.id == panorama.id:
            self._session.error_shown.emit("There is no flat view on the desk to remove.")
            return
        self.to_panorama()
        self._session.commit(f"Remove {shot.name}", edits.remove_view, panorama.id, shot.id)

    # -- the sphere -------------------------------------------------------------------------------------------

    def follow_turn(self) -> None:
        """Follow how the panoramic camera turns."""
        session, panorama, frame = self._session, self._panorama, self._session.desk.frame
        if panorama is None:
            session.error_shown.emit("This shot is no panorama: follow surfaces in it.")
            return

        def run(check: Any) -> Sphere:
            return follow_sphere(session.engine, panorama, frame, self._work.tell_later, check)

        def came(sphere: Sphere) -> None:
            session.commit("Follow the turn", edits.set_sphere, panorama.id, sphere)
            session.note_shown.emit(f"The turn is followed, {sphere.worst_px:.2f} px off at most.")

        self._work.run("Following the turn", "sphere", run, came)


def _level_of(panorama: Shot) -> Matrix:
    return np.eye(3) if panorama.sphere is None else panorama.sphere.level.values


def _panorama_of(session: Session) -> Shot | None:
    """Return the panorama on the desk, or the one that the view on it is of."""
    shot, project = session.shot, session.project
    if shot is None:
        return None
    whole = project.whole_of(shot.id)
    return whole if whole.footage.is_panorama else None


class PanoramaPart(Section):
    """The panorama on the desk: where one looks, how its camera turned, which way is up."""

    def __init__(self, session: Session, call: Callable[[str], object]) -> None:
        super().__init__("Panorama")
        self._session = session
        self.down = push_button("Down", partial(call, "look_down"), tip="Look straight down (Shift+Down)")
        self.horizon = push_button("Level", partial(call, "look_level"), tip="Look at the horizon (Shift+Home)")
        self.up = push_button("Up", partial(call, "look_up"), tip="Look straight up (Shift+Up)")
        for button, name in ((self.down, "Look down"), (self.horizon, "Look level"), (self.up, "Look up")):
            button.setAccessibleName(name)
        self.work_here = push_button("Work in this view", partial(call, "work_here"), primary=True,
                                     tip="A flat view in which all tools work; taking a tool does it too")  # fmt: skip
        self.back = push_button(
            "Back to the panorama", partial(call, "to_panorama"), tip="What was done is in it (Alt+Y)"
        )
        self.follow = push_button(
            "Follow the turn", partial(call, "follow_turn"), tip="How the camera turned over the shot"
        )
        self.facts = quiet(name="Sphere result")
        self.pitch = DragNumber("Tip forward", -20, 20, "°", tip="Level by hand: the horizon ahead")
        self.roll = DragNumber("Tip right", -20, 20, "°", tip="Level by hand: the horizon to the sides")
        for number in (self.pitch, self.roll):
            number.setDecimals(2)
            number.number_changed.connect(self._on_level)
        self._levelled = (0.0, 0.0)
        form = QFormLayout()
        form.setContentsMargins(0, 0, 0, 0)
        form.addRow("Level", spaced(self.pitch, self.roll))
        self.box.addLayout(spaced(self.down, self.horizon, self.up))
        for widget in (self.work_here, self.back, self.follow, self.facts):
            self.box.addWidget(widget)
        self.box.addLayout(form)

    def _on_level(self, _: float, is_final: bool) -> None:
        now = self.pitch.value(), self.roll.value()
        by = now[0] - self._levelled[0], now[1] - self._levelled[1]
        self._levelled = now
        panorama = _panorama_of(self._session)
        if panorama is not None:
            fresh = levelled_by(panorama.sphere, *by)
            self._session.commit_while("Level", False, edits.set_sphere, panorama.id, fresh)

    def show_panorama(self, whole: Shot, shot: Shot, is_busy: bool) -> None:
        """Show a panorama, and whether a view of it is on the desk."""
        is_view = shot.id != whole.id
        self.work_here.setVisible(not is_view)
        self.back.setVisible(is_view)
        self.follow.setEnabled(not is_busy)
        sphere = whole.sphere
        if sphere is None or sphere.turns is None:
            self.facts.setText("The camera is taken to stand. Follow its turn if it does not.")
        else:
            first, last = sphere.first_frame, sphere.first_frame + len(sphere.turns) - 1
            self.facts.setText(f"Turn followed {first}–{last}, {sphere.worst_px:.2f} px off at most")
        count = len(whole.views)
        self.say(f"{count} view{'s' if count != 1 else ''}")
