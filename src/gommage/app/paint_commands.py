"""The commands of painting: clean plates, strokes on the shot, and what is done with strokes afterwards."""

from __future__ import annotations

from collections.abc import Callable, Collection
from typing import Any

import numpy as np
from msgspec.structs import replace as msgspec_replace
from PySide6.QtWidgets import QWidget

from gommage.app.desk import Desk
from gommage.app.hands.brush import source_for
from gommage.app.hands.names import free_name
from gommage.app.hands.next_stroke import frames_of, painted_on
from gommage.app.hands.seen import part_seen
from gommage.app.picture.stage import Stage
from gommage.app.session import Session
from gommage.app.steps.fill.commands import with_plate_used
from gommage.core.document import (
    Array,
    CleanPlate,
    Fix,
    Frames,
    Group,
    Painted,
    Project,
    Shot,
    Stroke,
    edits,
    new_id,
    outline,
    placement,
)
from gommage.core.engine import Look, Step
from gommage.core.geometry import then

__all__ = ["PaintCommands"]


class PaintCommands:
    """What is painted on, and removing what was."""

    def __init__(self, session: Session, stage: Stage, window: QWidget) -> None:
        self._session, self._stage, self._window = session, stage, window

    @property
    def _desk(self) -> Desk:
        return self._session.desk

    @property
    def _shot(self) -> Shot | None:
        return self._desk.shot(self._session.project)

    def new_plate(self) -> None:
        """Make a clean plate of the frame on screen and begin to paint."""
        shot, surface = self._shot, self._desk.surface(self._session.project)
        if shot is None or surface is None or placement(shot, surface) is None:
            self._session.error_shown.emit(
                "A clean plate lies on a followed surface. Draw an area and follow it first."
            )
            return
        frame = self._desk.frame
        name = free_name("Plate", shot.clean_plates)
        plate = CleanPlate(id=new_id(), name=name, surface_id=surface.id, home_frame=frame)
        fix = self._desk.fix(self._session.project)

        def edit(project: Project) -> Project:
            fix_id = fix.id if fix is not None else ""
            return with_plate_used(edits.add_clean_plate(project, shot.id, plate), shot.id, fix_id, plate)

        if self._session.commit(f"Clean plate from {frame}", edit):
            self._session.set_desk(
                plate_id=plate.id,
                step=Step.FILL,
                tool="clone",
                look=Look.CLEAN_PLATE,
                stroke_ids=(),
                paints_shot=False,
            )

    def paint_on_shot(self) -> None:
        """Paint on the frames themselves: strokes of the fix in hand, or of a new one that is nothing but strokes."""
        shot, fix = self._shot, self._desk.fix(self._session.project)
        if shot is None:
            return
        fix_id = fix.id if fix is not None else new_id()
        if fix is None:
            surface = self._desk.surface(self._session.project)
            is_placed = surface is not None and placement(shot, surface) is not None
            riding = surface.id if surface is not None and is_placed else ""
            fresh = Fix(id=fix_id, name=free_name("Paint", shot.fixes), surface_id=riding, fill=Painted())
            if not self._session.commit("New paint", edits.add_fix, shot.id, fresh):
                return
        self._session.set_desk(
            fix_id=fix_id, fix_ids=(fix_id,), step=Step.FILL, paints_shot=True, look=Look.RESULT, stroke_ids=(),
            **self._desk.with_brush("clone"),
        )  # fmt: skip

    # -- strokes afterwards ---------------------------------------------------------------------------------

    def _change(
        self,
        words: str,
        edit: Callable[..., Project],
        those: Collection[str] | Collection[Stroke],
        *args: Any,
        **fields: Any,
    ) -> bool:
        """Change strokes; words have a place for "stroke" or so many "strokes"."""
        holder_id, _ = self._desk.painting(self._session.project)
        if not those:
            self._session.error_shown.emit("No stroke is chosen.")
            return False
        label = words.format("stroke" if len(those) == 1 else f"{len(those)} strokes")
        return self._session.commit(label, edit, self._desk.shot_id, holder_id, those, *args, **fields)

    def _chosen(self) -> tuple[Stroke, ...]:
        return self._desk.strokes(self._session.project)

    def remove_strokes(self) -> None:
        """Remove the chosen strokes, or else the last one; locked ones stay."""
        _, painting = self._desk.painting(self._session.project)
        chosen = self._chosen() or painting.strokes[-1:]
        ids = tuple(stroke.id for stroke in chosen if not stroke.is_locked)
        if chosen and not ids:
            self._session.error_shown.emit("What is chosen is locked.")
        elif ids:
            self._session.set_desk(stroke_ids=())
            self._change("Remove {}", edits.remove_strokes, ids)

    def switch_strokes(self) -> None:
        """Switch the chosen strokes off, or on again."""
        chosen = self._chosen()
        is_on = bool(chosen) and not chosen[0].is_on
        self._change("Switch {}", edits.change_strokes, self._desk.stroke_ids, is_on=is_on)

    def lock_strokes(self) -> None:
        """Lock the chosen strokes, so that no hand moves or removes them, or unlock them."""
        chosen = self._chosen()
        is_locked = bool(chosen) and not chosen[0].is_locked
        words = "Lock {}" if is_locked else "Unlock {}"
        self._change(words, edits.change_strokes, self._desk.stroke_ids, is_locked=is_locked)

    def duplicate_strokes(self) -> None:
        """Lay the chosen strokes once more, on top."""
        copies = tuple(msgspec_replace(stroke, id=new_id(), is_locked=False) for stroke in self._chosen())
        if self._change("Duplicate {}", edits.add_strokes, copies):
            self._session.set_desk(stroke_ids=tuple(copy.id for copy in copies))

    def raise_strokes(self) -> None:
        """Lay the chosen strokes last, so that they are on top."""
        self._reorder("Raise {}", to_top=True)

    def lower_strokes(self) -> None:
        """Lay the chosen strokes first, so that they are below."""
        self._reorder("Lower {}", to_top=False)

    def _reorder(self, words: str, *, to_top: bool) -> None:
        desk = self._desk
        _, painting = desk.painting(self._session.project)
        ids = [stroke.id for stroke in painting.strokes if stroke.id in desk.stroke_ids]

        def edit(project: Project, shot_id: str, holder: str, chosen: Collection[str]) -> Project:
            for one in ids if to_top else reversed(ids):
                project = edits.move_stroke(project, shot_id, holder, one, len(painting.strokes) - 1 if to_top else 0)
            return project

        self._change(words, edit, ids)

    def redraw_stroke(self) -> None:
        """Draw the path of the chosen stroke anew: size, source and frames stay."""
        chosen = self._chosen()
        if len(chosen) != 1 or chosen[0].is_locked:
            self._session.error_shown.emit("Choose one stroke, which is not locked, to draw its path anew.")
            return
        self._session.set_desk(redraws=chosen[0].id, **self._desk.with_brush(chosen[0].brush.tool.value))

    def group_strokes(self) -> None:
        """Make a group of the chosen strokes: named, moved, timed, switched, faded together."""
        _, painting = self._desk.painting(self._session.project)
        group = Group(id=new_id(), name=free_name("Group", painting.groups))
        self._change("Group {}", edits.group_strokes, self._desk.stroke_ids, group)

    def ungroup_strokes(self) -> None:
        """Take the chosen strokes out of their groups."""
        self._change("Ungroup {}", edits.ungroup_strokes, self._desk.stroke_ids)

    # -- frame after frame ----------------------------------------------------------------------------------

    def repeat_on_next(self) -> None:
        """Lay the last strokes on the next frame, too, and go there."""
        self._repeat(1)

    def repeat_on_previous(self) -> None:
        """Lay the last strokes on the frame before, too, and go there."""
        self._repeat(-1)

    def _repeat(self, by: int) -> None:
        """Lay strokes of this frame once more on another: the chosen ones, else all that live on this frame alone."""
        desk, shot = self._desk, self._shot
        _, painting = desk.painting(self._session.project)
        frame = desk.frame + by
        if shot is None or frame not in shot.footage.frames:
            self._session.error_shown.emit("There is no further frame.")
            return
        here = Frames(first=desk.frame, last=desk.frame)
        last = self._chosen() or tuple(one for one in painting.strokes if one.frames == (here,))
        if not desk.paints_shot or not last:
            self._session.error_shown.emit("No stroke on the shot lives on this frame alone, and none is chosen.")
            return
        there = (Frames(first=frame, last=frame),)
        copies = tuple(msgspec_replace(stroke, id=new_id(), frames=there, is_locked=False) for stroke in last)
        if self._change(f"Repeat {{}} on {frame}", edits.add_strokes, copies):
            chosen = tuple(copy.id for copy in copies) if self._chosen() else ()
            self._session.set_desk(frame=frame, stroke_ids=chosen)

    # -- strokes along a shape ------------------------------------------------------------------------------

    def stroke_along_shape(self) -> None:
        """Lay a stroke of the brush in hand along the outline of the shape in hand."""
        ground = self._stage.ground()
        tool, on, part = ground.desk.paint_tool, painted_on(ground), ground.desk.part(ground.project)
        seen = part_seen(ground, part) if part is not None else None
        if tool is None or seen is None:
            self._session.error_shown.emit("Take a brush; the stroke is laid along the shape in hand in Cover.")
            return
        if isinstance(on, str) or on.view is None:
            self._session.error_shown.emit(str(on) if isinstance(on, str) else "There is nothing to paint on here.")
            return
        shape = seen.shape
        line = outline(seen.vertices, shape.kinds, is_closed=shape.is_closed)
        line = np.vstack([line, line[:1]]) if shape.is_closed else line
        points = then(seen.view, on.view.inverse())(line)
        source = source_for(ground, tool, points[0])[0]
        if source is None:
            self._session.error_shown.emit("The brush has no source yet. Hold Alt and click where it should be.")
            return
        stroke = Stroke(
            id=new_id(), points=Array(np.column_stack([points, np.ones(len(points))])),
            brush=msgspec_replace(ground.desk.brush, tool=tool), source=source, surface_id=on.surface_id,
            frames=frames_of(ground.desk) if on.is_shot else (),
        )  # fmt: skip
        label = f"{tool.capitalize()} along {shape.name or 'a shape'}"
        if self._session.commit(label, edits.add_stroke, ground.desk.shot_id, on.holder_id, stroke):
            self._session.set_desk(stroke_ids=(stroke.id,))
