"""The commands of shapes: what is done to the one in hand, or to what of it is chosen."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial, partialmethod, reduce
from typing import Any

import numpy as np
from msgspec.structs import replace
from PySide6.QtCore import QPoint
from PySide6.QtGui import QGuiApplication
from PySide6.QtWidgets import QMenu, QWidget

from gommage.app.desk import Desk
from gommage.app.hands.box import in_box
from gommage.app.hands.gestures import Edit
from gommage.app.hands.next_stroke import source_of, takes_source
from gommage.app.hands.seen import in_frame, reshaped
from gommage.app.picture.stage import Stage
from gommage.app.session import Session
from gommage.core.cover.reshaping import moved_together
from gommage.core.document import (
    Array,
    Drawn,
    MattePart,
    Project,
    ScenePlane,
    Shape,
    ShapeKey,
    Source,
    VertexKind,
    edits,
    new_id,
)
from gommage.core.document.clipboard import parts_as_text, parts_from_text
from gommage.core.document.edits import Reach, Slot, slot_of
from gommage.core.engine import Priority, Step, proposed_key
from gommage.core.geometry import shift
from gommage.errors import EditError

__all__ = ["ShapeCommands"]

WAYS = {"left": (-1.0, 0.0), "right": (1.0, 0.0), "up": (0.0, -1.0), "down": (0.0, 1.0)}
LENGTHS_PX = {"tenth": 0.1, "one": 1.0, "ten": 10.0}
MOST_TILT_DEG = 5.0
LARGE_DOT_PX, SMALL_DOT_PX = 7.0, 4.0


class ShapeCommands:
    """What the Shape menu does."""

    def __init__(self, session: Session, stage: Stage, window: QWidget) -> None:
        self._session, self._stage, self._window = session, stage, window
        self.proposal_reach_px = 14.0
        self._proposal: Edit | None = None
        session.desk_changed.connect(self._on_desk_changed)
        session.begun.connect(self._on_begun)

    def _on_begun(self) -> None:
        self._proposal = None

    def _on_desk_changed(self, old: Desk, new: Desk) -> None:
        if old.frame != new.frame and self._proposal is not None:
            self.leave_proposal()
        if old.solo_id and new.solo_id and (old.fix_id, old.step) != (new.fix_id, new.step):
            self.end_solo()

    @property
    def _desk(self) -> Desk:
        return self._session.desk

    def _part(self) -> MattePart | None:
        return self._desk.part(self._session.project)

    def _shape(self) -> Shape | None:
        return self._desk.shape(self._session.project)

    def _do(self, label: str, edit: Callable[..., Project], **fields: Any) -> bool:
        return self._session.commit(label, edit, self._desk.shot_id, **fields)

    def _parts(self) -> tuple[MattePart, ...]:
        """Return all chosen parts, the one in hand first."""
        desk, part = self._desk, self._part()
        others = [one for one in desk.parts(self._session.project) if one.id in desk.part_ids]
        return tuple(dict.fromkeys([*((part,) if part is not None else ()), *others]))

    # -- moving ---------------------------------------------------------------------------------------------

    def _nudge(self, dx: float, dy: float) -> None:
        """Move what is chosen; with a brush in the hand, where its pixels come from."""
        desk = self._desk
        if desk.step is Step.FOLLOW and self._tilt(dx, dy):
            return
        if takes_source(desk.paint_tool):
            source = desk.source or Source()
            self._session.set_desk(source=source_of(desk, source.dx + dx, source.dy + dy))
            return
        ground = self._stage.ground()
        held = in_box(ground)
        made: list[Edit] = []
        label = ""
        for seen, chosen in held:
            own = self._desk.chosen_vertices(seen.part.id) or chosen
            moved = moved_together(seen.vertices, own, in_frame(ground, seen, shift(dx, dy)))
            step = reshaped(ground, seen, moved)
            if step.edit is not None:
                made.append(step.edit)
                label = step.label
        if made:
            self._session.commit_while(
                label, False, lambda project: reduce(lambda so_far, one: one(so_far), made, project)
            )

    def _tilt(self, dx: float, dy: float) -> bool:
        """Tilt the scene plane in hand, if one is: a degree for a pixel, no more than five at once."""
        surface = self._desk.surface(self._session.project)
        if surface is None or not isinstance(surface.how, ScenePlane):
            return False
        lean, swing = (float(np.clip(by, -MOST_TILT_DEG, MOST_TILT_DEG)) for by in (dy, dx))
        label = f"Nudge {surface.name}"
        self._session.commit_while(label, False, edits.nudge_plane, self._desk.shot_id, surface.id, lean_deg=lean,
                                   swing_deg=swing)  # fmt: skip
        return True

    # -- choosing -------------------------------------------------------------------------------------------

    def choose_all_points(self) -> None:
        """Choose all vertices of the shape in hand."""
        part, shape = self._part(), self._shape()
        if part is not None and shape is not None:
            self._session.set_desk(part_id=part.id, vertices=tuple(range(len(shape.kinds))), tool="edit")

    def transform_box(self) -> None:
        """Show the box around what is chosen, or put it away."""
        self._session.set_desk(has_box=not self._desk.has_box, tool="edit")

    def soften_points(self) -> None:
        """Show the handles of softness, or put them away."""
        self._session.set_desk(softens=not self._desk.softens, tool="edit")

    def larger_dots(self) -> None:
        """Draw vertices larger, or as they were."""
        is_large = self._desk.dot_px == LARGE_DOT_PX
        self._session.set_desk(dot_px=SMALL_DOT_PX if is_large else LARGE_DOT_PX)

    def reach_this(self) -> None:
        """Change the key of this frame alone."""
        self._session.set_desk(reach=Reach.THIS)

    def reach_all(self) -> None:
        """Change all keys."""
        self._session.set_desk(reach=Reach.ALL)

    def reach_marked(self) -> None:
        """Change the marked frames."""
        if self._desk.marked is None:
            self._session.note_shown.emit("Mark frames first: drag on the strip with Shift, or Shift+1 and Shift+2.")
        self._session.set_desk(reach=Reach.MARKED)

    # -- kinds ----------------------------------------------------------------------------------------------

    def _make(self, kind: VertexKind, label: str) -> None:
        part, shape = self._part(), self._shape()
        if part is not None and shape is not None:
            chosen = self._desk.chosen_vertices(part.id)
            self._do(label, edits.set_vertex_kinds, shape_id=shape.id, kind=kind, indices=chosen)

    def corner_points(self) -> None:
        """Make corners."""
        self._make(VertexKind.CORNER, "Make corners")

    def round_points(self) -> None:
        """Make them round."""
        self._make(VertexKind.SMOOTH, "Make round")

    def handle_points(self) -> None:
        """Give them handles."""
        self._make(VertexKind.HANDLES, "Give handles")

    # -- parts ----------------------------------------------------------------------------------------------

    def copy_shapes(self) -> None:
        """Copy the chosen parts as text."""
        parts = self._parts()
        if parts:
            QGuiApplication.clipboard().setText(parts_as_text(parts))
            words = "1 shape" if len(parts) == 1 else f"{len(parts)} shapes"
            self._session.note_shown.emit(f"Copied {words}")

    def paste_shapes(self) -> None:
        """Add the parts that were copied to the cover or the hold-outs in hand."""
        try:
            parts = parts_from_text(QGuiApplication.clipboard().text())
        except EditError as error:
            self._session.error_shown.emit(str(error))
            return
        shot = self._session.shot
        known = {surface.id for surface in shot.surfaces} if shot is not None else set()
        fallback = self._desk.surface_id
        self._add([_riding(part, known, fallback) for part in parts], "Paste shapes", self._desk.slot)

    def duplicate_shape(self) -> None:
        """Add the chosen parts once more."""
        shot, part = self._session.shot, self._part()
        if shot is not None and part is not None:
            self._add(list(self._parts()), "Duplicate shape", slot_of(shot, part.id)[1])

    def _add(self, parts: list[MattePart], label: str, slot: Slot) -> None:
        desk = self._desk
        holder = desk.surface_id if desk.step is Step.FOLLOW else desk.fix_id
        if not holder or not parts:
            return
        fresh = [_renewed(part) for part in parts]

        def edit(project: Project) -> Project:
            for part in fresh:
                project = edits.add_part(project, desk.shot_id, holder, slot, part)
            return project

        if self._session.commit(label, edit):
            self._session.set_desk(part_id=fresh[-1].id, part_ids=tuple(one.id for one in fresh[:-1]), vertices=())

    def lock_shape(self) -> None:
        """Lock the shape in hand, or unlock it."""
        shape = self._shape()
        if shape is not None:
            label = "Unlock shape" if shape.is_locked else "Lock shape"
            self._do(label, edits.change_shape, shape_id=shape.id, is_locked=not shape.is_locked)

    def solo_shape(self) -> None:
        """Look at the part in hand alone, or at all again."""
        part = self._part()
        if part is None or self._desk.solo_id == part.id:
            self.end_solo()
            return
        self._session.set_desk(solo_id=part.id)
        shot_id, kept = self._desk.shot_id, part.id

        def alone(project: Project) -> Project:
            shot = project.shot(shot_id)
            holder_id, slot = slot_of(shot, kept)
            for one in edits.matte_in(shot, holder_id, slot).parts:
                project = edits.change_part(project, shot_id, one.id, is_on=one.id == kept)
            return project

        self._session.preview("solo", alone)

    def end_solo(self) -> None:
        """Look at all parts again."""
        self._session.set_desk(solo_id="")
        self._session.preview("solo", None)

    def on_from_here(self) -> None:
        """Let the part exist from this frame on."""
        self._switch(is_on=True)

    def off_from_here(self) -> None:
        """Let the part not exist from this frame on."""
        self._switch(is_on=False)

    def _switch(self, *, is_on: bool) -> None:
        part = self._part()
        if part is not None:
            label = f"{'On' if is_on else 'Off'} from {self._desk.frame}"
            self._do(label, edits.switch_part, part_id=part.id, frame=self._desk.frame, is_on=is_on)

    # -- a key that proposes itself -------------------------------------------------------------------------

    def propose_key(self) -> None:
        """Lay the chosen outlines along the edges that they were drawn on; what comes of it is to be taken or left."""
        shot, frame, engine = self._session.shot, self._desk.frame, self._session.engine
        parts = [part for part in self._parts() if isinstance(part.source, Drawn)]
        if shot is None or not parts:
            return
        reach = self.proposal_reach_px

        def find(check: Callable[[], None]) -> list[tuple[MattePart, Any, float]]:
            return [(part, *proposed_key(engine, shot, part, frame, reach, check)) for part in parts]

        self._session.submit(("proposal", parts[0].id, frame), Priority.SCREEN, find, partial(self._came, frame))

    def _came(self, frame: int, found: list[tuple[MattePart, Any, float]]) -> None:
        """Show the keys that were found, unless one went on meanwhile."""
        if self._desk.frame != frame:
            return
        made: list[Edit] = []
        for part, vertices, _ in found:
            assert isinstance(part.source, Drawn)
            key = ShapeKey(frame=frame, vertices=Array(vertices), is_measured=True)
            made.append(
                partial(edits.set_shape_key, shot_id=self._desk.shot_id, shape_id=part.source.shape.id, key=key)
            )

        def edit(project: Project) -> Project:
            return reduce(lambda so_far, one: one(so_far), made, project)

        self._proposal = edit
        self._session.set_desk(proposal=frame, proposal_sure=min(sure for _, _, sure in found))
        self._session.preview("proposal", edit)

    def take_proposal(self) -> None:
        """Keep the proposed key."""
        (edit, self._proposal), frame = (self._proposal, None), self._desk.proposal
        self._session.set_desk(proposal=None)
        if edit is not None and frame is not None:
            self._session.commit_preview("proposal", f"Key proposed on {frame}", edit)

    def leave_proposal(self) -> bool:
        """Drop the proposed key; returns whether there was one."""
        had, self._proposal = self._proposal is not None, None
        if had:
            self._session.set_desk(proposal=None)
            self._session.preview("proposal", None)
        return had

    # -- keys -----------------------------------------------------------------------------------------------

    def move_keys(self, frames: tuple[int, ...], by: int, is_copy: bool) -> None:
        """Move keys of the shape in hand in time, or copies of them."""
        shape = self._shape()
        if shape is None or not by:
            return
        edit = edits.copy_shape_keys if is_copy else edits.move_shape_keys
        label = "Copy keys" if is_copy else "Move keys"
        if self._do(label, edit, shape_id=shape.id, frames=frames, by=by):
            self._session.set_desk(keys=tuple(frame + by for frame in frames))

    def mirror_keys(self) -> None:
        """Put the chosen keys, or all, in reverse order."""
        shape = self._shape()
        if shape is not None:
            chosen = self._desk.keys or tuple(key.frame for key in shape.keys)
            self._do("Mirror keys", edits.mirror_shape_keys, shape_id=shape.id, frames=chosen)

    def remove_keys(self) -> None:
        """Take the chosen keys off."""
        shape, chosen = self._shape(), self._desk.keys
        if shape is not None and chosen:
            label = "Remove key" if len(chosen) == 1 else f"Remove {len(chosen)} keys"
            if self._do(label, edits.remove_shape_keys, shape_id=shape.id, frames=chosen):
                self._session.set_desk(keys=())

    def remove_chosen(self) -> bool:
        """Remove the chosen keys, else the chosen vertices; returns whether there were any."""
        part, shape = self._part(), self._shape()
        if self._desk.keys:
            self.remove_keys()
            return True
        chosen = self._desk.chosen_vertices(part.id) if part is not None else ()
        if shape is None or not chosen:
            return False
        label = "Remove point" if len(chosen) == 1 else f"Remove {len(chosen)} points"
        if self._do(label, edits.remove_vertices, shape_id=shape.id, indices=chosen):
            self._session.set_desk(vertices=())
        return True

    def show_keys_menu(self, at: QPoint) -> None:
        """Show what can be done to the chosen keys."""
        desk, frames = self._desk, self._desk.keys
        if not frames:
            return
        menu = QMenu(self._window)
        menu.setObjectName("keys_menu")
        words = "key" if len(frames) == 1 else f"{len(frames)} keys"
        menu.addAction(
            f"Copy {words} to frame {desk.frame}", lambda: self.move_keys(frames, desk.frame - frames[0], True)
        )
        if len(frames) > 1:
            menu.addAction("Mirror in time", self.mirror_keys)
        menu.addAction(f"Remove {words}", self.remove_keys)
        menu.aboutToHide.connect(menu.deleteLater)
        menu.popup(at)


for _length, _px in LENGTHS_PX.items():
    for _way, (_dx, _dy) in WAYS.items():
        _by = partialmethod(ShapeCommands._nudge, _dx * _px, _dy * _px)
        setattr(ShapeCommands, f"nudge_{_way}_{_length}", _by)


def _renewed(part: MattePart) -> MattePart:
    """Return a part with ids of its own."""
    fresh = new_id()
    if isinstance(part.source, Drawn):
        source = replace(part.source, shape=replace(part.source.shape, id=fresh, is_locked=False))
        return replace(part, id=fresh, source=source)
    return replace(part, id=fresh)


def _riding(part: MattePart, known: set[str], fallback: str) -> MattePart:
    """Return a part that rides on a surface of this shot, on the one in hand if its own is not here."""
    if isinstance(part.source, Drawn) and part.source.surface_id not in {"", *known}:
        return replace(part, source=replace(part.source, surface_id=fallback))
    return part
