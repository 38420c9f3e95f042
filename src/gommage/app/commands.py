"""The commands of the window that belong to no single step: history, frames, steps, tools, view."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial, partialmethod

from PySide6.QtCore import QTimer
from PySide6.QtWidgets import QWidget

from gommage.app.desk import BRUSHES, Desk
from gommage.app.picture.stage import Stage
from gommage.app.picture.viewer import Viewer
from gommage.app.session import Session
from gommage.app.work import Work
from gommage.core.document import (
    Frames,
    Shot,
    edits,
)
from gommage.core.engine import Look, Step

__all__ = ["FrameCommands", "ItemCommands", "ViewCommands"]

TURN_DEG = 15.0
STEP_TOOLS = {Step.FOLLOW: "draw", Step.COVER: "draw", Step.FILL: "clone", Step.MATCH: "hand", Step.CHECK: "hand"}


class FrameCommands:
    """Going from frame to frame, and playing."""

    def __init__(self, session: Session, stage: Stage, changed: Callable[[], None]) -> None:
        self._session, self._stage, self._changed = session, stage, changed
        self._playing = QTimer(session)
        self._playing.timeout.connect(self._on_tick)

    @property
    def is_playing(self) -> bool:
        """Whether it plays."""
        return self._playing.isActive()

    def _by(self, frames: int) -> None:
        self._session.go_to(self._session.desk.frame + frames)

    def next_frame(self) -> None:
        """Step on."""
        self._by(1)

    def previous_frame(self) -> None:
        """Step back."""
        self._by(-1)

    def jump_on(self) -> None:
        """Ten on."""
        self._by(10)

    def jump_back(self) -> None:
        """Ten back."""
        self._by(-10)

    def first_frame(self) -> None:
        """To the start."""
        if self._session.shot is not None:
            self._session.go_to(self._session.shot.footage.frames.first)

    def last_frame(self) -> None:
        """To the end."""
        if self._session.shot is not None:
            self._session.go_to(self._session.shot.footage.frames.last)

    def home_frame(self) -> None:
        """To the home frame of the plate that is painted, else of the surface."""
        desk, project = self._session.desk, self._session.shown
        plate, surface = desk.plate(project), desk.surface(project)
        if desk.step is Step.FILL and plate is not None:
            self._session.go_to(plate.home_frame)
        elif surface is not None:
            self._session.go_to(surface.home_frame)

    def worst_frame(self) -> None:
        """To the frame with the worst figure; without figures, to the greatest slip."""
        measured = self._session.measures(self._session.desk.fix_id)
        if not measured:
            self.worst_slip()
            return
        worst = max(measured, key=lambda one: one.worst)
        self._session.go_to(worst.frame)
        figures = f"seam {worst.seam_percent:.1f} %, flicker {worst.flicker_percent:.1f} %"
        self._session.note_shown.emit(f"Frame {worst.frame}: {figures}")

    def worst_slip(self) -> None:
        """To the frame on which the surface may be off most."""
        known = self._session.surface_summary(self._session.desk.surface_id)
        if known is None or not known.is_known:
            return
        self._session.go_to(known.worst_frame)
        why = known.reasons[known.worst_frame - known.first]
        tail = f": {why}" if why else ""
        self._session.note_shown.emit(f"The greatest slip, {known.worst_px:.2f} px" + tail)

    def play(self) -> None:
        """Play or stop."""
        shot = self._session.shot
        if self._playing.isActive() or shot is None:
            self._playing.stop()
        else:
            self._playing.start(max(round(1000 / float(shot.footage.frames_per_second)), 1))
        self._changed()

    def halt(self) -> None:
        """Stop playing."""
        self._playing.stop()

    def _on_tick(self) -> None:
        """Show the next frame once it is ready: every frame is played, the first time as fast as they come."""
        shot = self._session.shot
        if shot is None:
            self._playing.stop()
            return
        frames, frame = shot.footage.frames, self._session.desk.frame
        following = frame + 1 if frame < frames.last else frames.first
        is_missing = following in shot.footage.missing
        views = self._stage.views
        if is_missing or views.is_ready(following) or not self._session.jobs.is_waiting("ahead"):
            self._session.go_to(following)

    # -- marks and spans ------------------------------------------------------------------------------------

    def set_span(self, first: int, last: int, is_final: bool) -> None:
        """Let the fix in hand live on a range of frames, while the ends of its bar are dragged."""
        session, shot = self._session, self._session.shot
        if shot is None or not session.desk.fix_id:
            return
        whole = shot.footage.frames
        one = Frames(first=None if first <= whole.first else first, last=None if last >= whole.last else last)
        frames = () if one == Frames() else (one,)
        session.commit_while(
            "Frames of the fix", is_final, edits.change_fix, shot.id, session.desk.fix_id, frames=frames
        )


class ViewCommands:
    """Steps, tools and how one looks."""

    def __init__(self, session: Session, stage: Stage, viewer: Viewer, changed: Callable[[], None]) -> None:
        self._session, self._stage, self._viewer, self._changed = session, stage, viewer, changed

    @property
    def _desk(self) -> Desk:
        return self._session.desk

    def go_to_step(self, step: Step) -> None:
        """Go to a step, with its tool in the hand and what it is about in sight."""
        project = self._session.shown
        fix, plate = self._desk.fix(project), self._desk.plate(project)
        tool = STEP_TOOLS[step]
        if (step is Step.FOLLOW and self._desk.surface(project) is not None) or (
            step is Step.COVER and fix is not None and fix.cover.parts
        ):
            tool = "edit"
        if step is Step.FILL and not self._desk.painting(project)[0]:
            tool = "hand"
        is_on_plate = step is Step.FILL and plate is not None and not self._desk.paints_shot
        look = Look.CLEAN_PLATE if is_on_plate else Look.RESULT
        self._stage.cancel()
        self._session.set_desk(step=step, tool=tool, look=look, part_id="")

    def step_follow(self) -> None:
        """To Follow."""
        self.go_to_step(Step.FOLLOW)

    def step_cover(self) -> None:
        """To Cover."""
        self.go_to_step(Step.COVER)

    def step_fill(self) -> None:
        """To Fill."""
        self.go_to_step(Step.FILL)

    def step_match(self) -> None:
        """To Match."""
        self.go_to_step(Step.MATCH)

    def step_check(self) -> None:
        """To Check."""
        self.go_to_step(Step.CHECK)

    def _take(self, tool: str, *steps: Step) -> None:
        """Take a tool, on one of the steps that have it."""
        if steps and self._desk.step not in steps:
            self.go_to_step(steps[0])
        self._stage.cancel()
        self._session.set_desk(**self._desk.with_brush(tool))
        self._changed()

    def take_brush(self, tool: str) -> None:
        """Take a brush."""
        self._take(tool, Step.FILL)

    def tool_hand(self) -> None:
        """Move the view."""
        self._take("hand")

    def tool_draw(self) -> None:
        """Draw a shape."""
        self._session.set_desk(draws_wire=False)
        self._take("draw", Step.COVER, Step.FOLLOW)

    def tool_edit(self) -> None:
        """Edit the shape in hand."""
        self._take("edit", Step.COVER, Step.FOLLOW, Step.FILL, Step.MATCH)

    def tool_mould(self) -> None:
        """Reshape softly."""
        self._take("mould", Step.COVER, Step.FOLLOW, Step.MATCH)

    def tool_picture(self) -> None:
        """Drag a laid picture by its corners."""
        self._take("picture", Step.FILL)

    def tool_borrow(self) -> None:
        """Drag where it is borrowed from."""
        self._take("borrow", Step.FILL)

    def tool_scribble(self) -> None:
        """Scribble, with the matte in sight."""
        self._take("scribble", Step.COVER)
        self._session.set_desk(look=Look.VEIL)

    def tool_pin(self) -> None:
        """Correct the surface on this frame."""
        self._take("pin", Step.FOLLOW)

    def fit_view(self) -> None:
        """Show the whole picture."""
        shot = self._session.shot
        if shot is not None:
            self._viewer.fit(shot.footage.width, shot.footage.height)

    def actual_pixels(self) -> None:
        """One picture pixel is one pixel of the screen."""
        self._viewer.zoom_to(1 / self._viewer.devicePixelRatioF())

    def turn_left(self) -> None:
        """Turn the picture on the desk against the clock."""
        self._viewer.turn_to(self._viewer.framing.turn_deg - TURN_DEG)

    def turn_right(self) -> None:
        """Turn the picture on the desk with the clock."""
        self._viewer.turn_to(self._viewer.framing.turn_deg + TURN_DEG)

    def upright(self) -> None:
        """Turn the picture back."""
        self._viewer.turn_to(0.0)

    def _toggle(self, field: str) -> None:
        self._session.set_desk(**{field: not getattr(self._desk, field)})

    def steady(self) -> None:
        """Hold the surface still, or let it go."""
        self._toggle("is_steady")

    def square_on(self) -> None:
        """Show the surface without perspective, or as filmed."""
        self._toggle("is_square_on")

    def test_card(self) -> None:
        """Lay the test card on the surface, or take it away."""
        self._toggle("has_test_card")

    def trails(self) -> None:
        """Show or hide the ways of the corners."""
        self._toggle("has_trails")

    def stroke_outlines(self) -> None:
        """Outline all strokes of the frame, or only the chosen ones."""
        self._toggle("outlines_strokes")

    def simulated_pen(self) -> None:
        """Press the mouse as a pen would be: light when fast."""
        self._toggle("simulates_pen")

    def pen_tilts(self) -> None:
        """Let the pen's tilt take the place of its pressure, or its pressure again."""
        self._toggle("tilts")

    def lattice(self) -> None:
        """Show or hide the lattice."""
        self._toggle("has_lattice")

    def wipe(self) -> None:
        """Wipe between result and plate."""
        self._toggle("has_wipe")

    def veil(self) -> None:
        """Lay the matte over the picture, or take it away."""
        is_on = self._desk.look is Look.VEIL
        self._session.set_desk(look=Look.RESULT if is_on else Look.VEIL)

    def sheet(self) -> None:
        """Show the surface on all frames at once, or the result again."""
        is_on = self._desk.look is Look.SHEET
        self._session.set_desk(look=Look.RESULT if is_on else Look.SHEET)


for _tool in BRUSHES:
    setattr(ViewCommands, f"tool_{_tool}", partialmethod(ViewCommands.take_brush, _tool))


class ItemCommands:
    """Making and removing what the lists show; undo and redo."""

    def __init__(self, session: Session, work: Work, stage: Stage, window: QWidget) -> None:
        self._session, self._work, self._stage, self._window = session, work, stage, window

    @property
    def _desk(self) -> Desk:
        return self._session.desk

    @property
    def _shot(self) -> Shot | None:
        return self._desk.shot(self._session.project)

    def undo(self) -> None:
        """Take the last step back; in the middle of a gesture, that."""
        if not self._stage.cancel():
            self._session.undo()

    def redo(self) -> None:
        """Do it again."""
        self._session.redo()

    def measure(self) -> None:
        """Measure the fix on all frames."""
        self._work.measure()

    def new_surface(self) -> None:
        """Draw the area of another surface."""
        if self._shot is not None:
            self._session.set_desk(surface_id="", step=Step.FOLLOW, tool="draw", look=Look.RESULT, draws="surface")

    def new_fix(self) -> None:
        """Draw the cover of another fix on the surface in hand."""
        if self._desk.surface(self._session.project) is None:
            self._session.error_shown.emit("A fix needs a surface to ride on. Draw an area and follow it first.")
            return
        self._session.set_desk(fix_id="", fix_ids=(), part_id="", step=Step.COVER, tool="draw", look=Look.RESULT,
                                   draws_wire=False)  # fmt: skip

    # -- removing -------------------------------------------------------------------------------------------

    def remove_selected(self) -> None:
        """Remove what the focused list shows, else what is in hand: strokes, a pin, a key on this frame."""
        focused = self._focused_list()
        if focused is not None:
            focused()
        elif self._desk.step is Step.FILL:
            self._window.painting.remove_strokes()  # type: ignore[attr-defined]
        elif self._desk.step is Step.FOLLOW and self._is_pinned():
            desk = self._desk
            self._session.commit(f"Unpin {desk.frame}", edits.remove_pin, desk.shot_id, desk.surface_id, desk.frame)
        elif not self._window.shapes.remove_chosen():  # type: ignore[attr-defined]
            self._remove_key()

    def _focused_list(self) -> Callable[[], object] | None:
        """Return what removes the items that are chosen in the list that has the focus."""
        project, desk = self._session.project, self._desk
        column = self._window.column  # type: ignore[attr-defined]
        surface, plate, shot = desk.surface(project), desk.plate(project), self._shot
        commit = self._session.commit
        if shot is None:
            return None
        if column.surfaces.hasFocus() and surface is not None:
            return partial(commit, f"Remove {surface.name}", edits.remove_surface, shot.id, surface.id)
        if column.plates.hasFocus() and plate is not None:
            return partial(commit, f"Remove {plate.name}", edits.remove_clean_plate, shot.id, plate.id)
        if column.fixes.hasFocus() and desk.fix_ids:
            name = shot.fix(desk.fix_ids[0]).name if len(desk.fix_ids) == 1 else f"{len(desk.fix_ids)} fixes"
            return partial(commit, f"Remove {name}", edits.remove_fixes, shot.id, desk.fix_ids)
        return None

    def _is_pinned(self) -> bool:
        surface = self._desk.surface(self._session.project)
        return surface is not None and self._desk.frame in {pin.frame for pin in surface.pins}

    def _remove_key(self) -> None:
        desk, shape = self._desk, self._desk.shape(self._session.project)
        if (
            shape is not None
            and shape.key_at(desk.frame) is not None
            and (len(shape.keys) > 1 or desk.step is not Step.FOLLOW)
        ):
            self._session.commit("Remove key", edits.remove_shape_keys, desk.shot_id, shape.id, (desk.frame,))

    def stop(self) -> None:
        """Drop the shape in hand, stop reading a picture, let go of chosen strokes, else stop what runs."""
        shapes = self._window.shapes  # type: ignore[attr-defined]
        if self._stage.cancel() or self._stage.views.stop_reading() or shapes.leave_proposal():
            return
        if self._desk.proposed is not None:
            self._window.of_steps.proposals.drop_proposal()  # type: ignore[attr-defined]
            return
        if self._desk.offered is not None and not self._work.is_busy:
            self._session.set_desk(offered=None)
            return
        if self._desk.vertices or self._desk.keys:
            self._session.set_desk(vertices=(), keys=())
            return
        if self._desk.redraws:
            self._session.set_desk(redraws="")
            return
        if self._desk.stroke_ids:
            self._session.set_desk(stroke_ids=())
            return
        self._work.stop()
