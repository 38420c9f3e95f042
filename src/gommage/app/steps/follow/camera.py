"""The solved camera in the Follow panel: solving it, the lens, how good it is, and the plane of its scene in hand."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import QSignalBlocker
from PySide6.QtWidgets import QFormLayout, QHBoxLayout, QWidget

from gommage.app.desk import Desk
from gommage.app.look.controls import DragNumber, Section, choice, push_button, quiet, spaced, tick_box
from gommage.app.session import Session
from gommage.core.document import Project, ScenePlane, Shot, Surface
from gommage.core.engine import told_of_camera
from gommage.core.geometry import Lens

__all__ = ["CameraPart"]

FOUND, BY_HAND, READ = "found", "by hand", "read"
FIRST_FOCAL = 1.0
"""In widths of the picture: what a lens by hand begins with."""


class CameraPart(Section):
    """Solve a shot's camera, and what came of it."""

    def __init__(self, session: Session, call: Callable[[str], object]) -> None:
        super().__init__("Camera", is_folded=True)
        self._session = session
        self._lenses: dict[str, Lens] = {}
        self.solve = push_button("Solve camera", lambda: call("solve_camera"),
                                 tip="From what stands still in the shot, or on the marked frames (Alt+K)")  # fmt: skip
        self.lay = push_button("Plane", lambda: call("new_scene_plane"),
                               tip="Draw round it, or click three or more of its points (Alt+D)")  # fmt: skip
        self.lay.setAccessibleName("New scene plane")
        self.lens = choice("Lens", {FOUND: "Found from the shot"}, "What the solve begins from")
        self.lens.activated.connect(self._on_lens)
        self.focal = DragNumber("Focal length", 1, 100000, "px", tip="In pixels of the picture")
        self.focal.number_changed.connect(self._on_focal)
        self._form = QFormLayout()
        self._form.setContentsMargins(0, 0, 0, 0)
        self._form.addRow("Lens", self.lens)
        self._form.addRow("Focal length", self.focal)
        self.facts = quiet(name="Camera result")
        self.points = tick_box("Show its points", "Light: sure (Alt+Z)",
                               lambda on: session.set_desk(shows_points=on))  # fmt: skip
        self.worst = push_button("Worst frame", lambda: call("worst_solved"), tip="Where the camera is off most")
        self.polish = push_button("Polish", lambda: call("polish_plane"),
                                  tip="Align the plane's own texture on every third frame (Alt+G)")  # fmt: skip
        self.ground = push_button("Ground", lambda: call("name_ground"), tip="The scene is level by this plane")
        self.ground.setCheckable(True)
        self.upright = push_button("Upright", lambda: call("stand_upright"), tip="Stand it upright on the ground")
        self._on_plane = spaced(self.polish, self.ground, self.upright)
        self.hint = quiet("Ctrl with the arrows tilts the plane by 1°, Alt by 0.1°; Page up and down move it.")
        buttons = QHBoxLayout()
        buttons.addWidget(self.solve, 2)
        buttons.addWidget(self.lay, 1)
        self.box.addLayout(buttons)
        self.box.addLayout(self._form)
        self.box.addWidget(self.facts)
        self.box.addLayout(spaced(self.points, self.worst))
        self.box.addLayout(self._on_plane)
        self.box.addWidget(self.hint)

    def show_camera(self, project: Project, shot: Shot, surface: Surface | None, desk: Desk, is_busy: bool) -> None:
        """Show the camera of a shot, and what can be done with the surface in hand."""
        camera, bounds = shot.camera, shot.footage.bounds
        has_plane = surface is not None and isinstance(surface.how, ScenePlane)
        self.solve.setText("Solve camera" if camera is None else "Solve anew")
        self.solve.setEnabled(not is_busy)
        self.polish.setEnabled(not is_busy)
        self.lay.setEnabled(camera is not None)
        shown: tuple[tuple[bool, tuple[QWidget, ...]], ...] = (
            (camera is not None, (self.points, self.worst)),
            (has_plane, (self.polish, self.ground, self.upright, self.hint)),
        )
        for is_shown, widgets in shown:
            for widget in widgets:
                widget.setVisible(is_shown)
        self._show_lenses(project, shot, desk)
        with QSignalBlocker(self.points):
            self.points.setChecked(desk.shows_points)
        if camera is None:
            self.facts.setText("For scenes of several planes: each then rides on the camera.")
            self.say("not solved")
            return
        self.ground.setChecked(has_plane and surface is not None and camera.ground_id == surface.id)
        self.upright.setEnabled(bool(camera.ground_id) and not self.ground.isChecked())
        self.facts.setText("\n".join(told_of_camera(camera, bounds)))
        self.say(f"off by {camera.median_px:.2f} px")

    def _show_lenses(self, project: Project, shot: Shot, desk: Desk) -> None:
        """List what lens the next solve may begin from."""
        width = shot.footage.width
        own = {"own": shot.camera.lens} if shot.camera is not None else {}
        others = {
            one.id: one.camera.lens.scaled(width / one.footage.width)
            for one in project.shots
            if one.camera is not None and one.id != shot.id
        }
        self._lenses = own | others
        names = {FOUND: "Found from the shot"} | ({"own": "As it was solved"} if own else {})
        names |= {one.id: f"As in {one.name}" for one in project.shots if one.id in others}
        names[BY_HAND] = "By hand"
        known = next((key for key, lens in self._lenses.items() if lens == desk.lens), None)
        chosen = FOUND if desk.lens is None else known or (BY_HAND if desk.lens.is_straight else READ)
        if chosen == READ:
            names[READ] = "Read from a file"
        with QSignalBlocker(self.lens):
            self.lens.clear()
            for key, words in names.items():
                self.lens.addItem(words, key)
            self.lens.setCurrentIndex(self.lens.findData(chosen))
        self._form.setRowVisible(self.focal, chosen == BY_HAND)
        if desk.lens is not None:
            self.focal.set_value(desk.lens.focal_px)

    def _on_lens(self) -> None:
        chosen = self.lens.currentData()
        if chosen == BY_HAND:
            self._on_focal(FIRST_FOCAL * self._width, True)
        elif chosen != READ:
            self._session.set_desk(lens=self._lenses.get(chosen))

    @property
    def _width(self) -> int:
        shot = self._session.shot
        return shot.footage.width if shot is not None else 1920

    def _on_focal(self, value: float, is_final: bool) -> None:
        shot = self._session.shot
        if shot is not None:
            self._session.set_desk(lens=Lens(value, shot.footage.width / 2, shot.footage.height / 2))
