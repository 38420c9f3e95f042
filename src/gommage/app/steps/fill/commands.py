"""The commands of filling: what a fix is filled from, and where that is seen."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial

from msgspec.structs import replace

from gommage.app.hands.names import free_name
from gommage.app.session import Session
from gommage.app.steps.cover.lines import open_line
from gommage.app.work import Work
from gommage.core.document import (
    CleanPlate,
    Donors,
    Fix,
    Frames,
    Merged,
    Painted,
    Plates,
    Project,
    Rim,
    Shot,
    Span,
    Texture,
    edits,
    new_id,
)
from gommage.core.document.records import Fill
from gommage.core.engine import Look, Priority, Step
from gommage.core.fill import merged_window, surfaces_behind
from gommage.errors import EditError

__all__ = ["FillCommands", "with_plate_used"]

WHOLE = 0.9999


def with_plate_used(project: Project, shot_id: str, fix_id: str, plate: CleanPlate, *, rest: bool = False) -> Project:
    """Return the project with a fix filled from a clean plate as well, if it lies on the fix's surface; with `rest`,
    what no frame shows alone.
    """
    fix = next((one for one in project.shot(shot_id).fixes if one.id == fix_id), None)
    if fix is None:
        return project
    if isinstance(fix.fill, Plates) and plate.surface_id == fix.surface_id:
        fill: Fill = replace(fix.fill, plate_ids=(*fix.fill.plate_ids, plate.id))
    elif isinstance(fix.fill, Donors) and rest:
        fill = replace(fix.fill, rest_plate_ids=(*fix.fill.rest_plate_ids, plate.id))
    else:
        return project
    return edits.change_fix(project, shot_id, fix_id, fill=fill)


class FillCommands:
    """What the Fill menu does."""

    def __init__(self, session: Session, work: Work) -> None:
        self._session, self._work = session, work

    def _fix(self) -> tuple[Shot, Fix] | None:
        shot, fix = self._session.shot, self._session.desk.fix(self._session.project)
        return None if shot is None or fix is None else (shot, fix)

    def _fill(self, label: str, fill: Fill) -> bool:
        desk = self._session.desk
        return self._session.commit(label, edits.change_fix, desk.shot_id, desk.fix_id, fill=fill)

    def fill_from_frames(self) -> None:
        """Bring what the thing hides from other frames, along the surfaces behind it."""
        found = self._fix()
        if found is None or isinstance(found[1].fill, Donors):
            return
        shot, fix = found
        behind = surfaces_behind(shot, fix)
        if self._fill(f"Fill {fix.name} from other frames", Donors(surface_ids=behind)):
            self._session.set_desk(step=Step.FILL, tool="hand", look=Look.RESULT)
            if not behind and any(open_line(part) for part in fix.cover.parts):
                self._session.note_shown.emit("No surface is followed behind these lines: Alt+V looks for some.")
            elif not behind:
                self._session.note_shown.emit("No surface is followed: each piece is looked for by itself")

    def fill_from_plates(self) -> None:
        """Fill from clean plates: the one in hand, if it lies on the fix's surface."""
        found, plate = self._fix(), self._session.desk.plate(self._session.project)
        if found is not None and not isinstance(found[1].fill, Plates):
            rest = found[1].fill.rest_plate_ids if isinstance(found[1].fill, Donors) else ()
            own = (plate.id,) if plate is not None and plate.surface_id == found[1].surface_id else ()
            self._fill(f"Fill {found[1].name} from clean plates", Plates(plate_ids=rest or own))

    def fill_from_rim(self) -> None:
        """Grow the surroundings inwards, on each frame."""
        found = self._fix()
        if found is not None and not isinstance(found[1].fill, Rim):
            self._fill(f"Fill {found[1].name} from the rim", Rim())

    def fill_as_span(self) -> None:
        """Close the lines of the cover from both sides, on each frame."""
        found = self._fix()
        if found is not None and not isinstance(found[1].fill, Span):
            if not any(open_line(part) for part in found[1].cover.parts):
                self._session.error_shown.emit("A span closes lines, and none is covered. Draw one along the wire.")
                return
            self._fill(f"Close {found[1].name} as a span", Span())

    def change_span(self, label: str, is_final: bool = True, **fields: object) -> None:
        """Change how lines are closed."""
        found = self._fix()
        if found is not None and isinstance(found[1].fill, Span):
            desk = self._session.desk
            try:
                fill = replace(found[1].fill, **fields)
            except ValueError as error:
                self._session.error_shown.emit(f"{error}.")
                return
            self._session.commit_while(label, is_final, edits.change_fix, desk.shot_id, desk.fix_id, fill=fill)

    def change_rim(self, label: str, is_final: bool = True, **fields: object) -> None:
        """Change how surroundings are grown in."""
        found = self._fix()
        if found is not None and isinstance(found[1].fill, Rim):
            desk, fill = self._session.desk, replace(found[1].fill, **fields)
            self._session.commit_while(label, is_final, edits.change_fix, desk.shot_id, desk.fix_id, fill=fill)

    def fill_by_strokes(self) -> None:
        """Leave what lies below: the fix is its strokes."""
        found = self._fix()
        if found is not None and not isinstance(found[1].fill, Painted):
            self._fill(f"{found[1].name} by strokes alone", Painted())

    def change_donors(self, label: str, is_final: bool = True, **fields: object) -> None:
        """Change what the fix in hand takes from other frames."""
        found = self._fix()
        if found is not None and isinstance(found[1].fill, Donors):
            desk, fill = self._session.desk, replace(found[1].fill, **fields)
            self._session.commit_while(label, is_final, edits.change_fix, desk.shot_id, desk.fix_id, fill=fill)

    # -- merged plates --------------------------------------------------------------------------------------

    def merged_plate(self) -> None:
        """Merge all frames along the surface in hand, or the marked ones, to a clean plate."""
        surface = self._session.desk.surface(self._session.project)
        found = self._fix()
        if surface is None:
            self._session.error_shown.emit("A merged plate lies on a followed surface. Follow one first.")
            return
        uses = found is not None and isinstance(found[1].fill, Plates) and found[1].surface_id == surface.id
        self._merge(surface.id, Plates if uses else None)

    def plate_for_rest(self) -> None:
        """Merge a clean plate of the surface on which something is never seen, and fill that alone from it."""
        self._plate_for_rest(None)

    def texture_for_rest(self) -> None:
        """Close what no frame shows with matching pieces of a merged plate."""
        self._plate_for_rest(Texture())

    def close_rest(self, proposal: int | None) -> None:
        """Close what no frame shows of the plate in hand with matching pieces of it; None: leave it for paint."""
        desk, plate = self._session.desk, self._session.desk.plate(self._session.project)
        if plate is not None and isinstance(plate.base, Merged):
            rest = None if proposal is None else Texture(proposal=proposal)
            label = f"Leave the rest of {plate.name}" if rest is None else f"Close the rest of {plate.name}"
            self._session.commit(label, edits.change_clean_plate, desk.shot_id, plate.id, rest=rest)

    def _plate_for_rest(self, rest: Texture | None) -> None:
        found, seen = self._fix(), self._session.seen(self._session.desk.fix_id)
        if found is None or not isinstance(found[1].fill, Donors) or not seen:
            return
        shot, fix = found
        frame = min(seen, key=lambda one: seen[one])
        self._session.submit(
            ("rest", fix.id), Priority.SCREEN,
            lambda check: self._session.engine.surface_of_rest(shot, fix, frame, check),
            lambda surface_id: self._merge(surface_id, Donors, rest) if surface_id else None,
        )  # fmt: skip

    def _merge(self, surface_id: str, fill: type | None, rest: Texture | None = None) -> None:
        session, shot, found = self._session, self._session.shot, self._fix()
        if shot is None:
            return
        surface, marked = shot.surface(surface_id), session.desk.marked_frames
        window = merged_window(shot, surface_id, surface.home_frame)
        if window is None:
            session.error_shown.emit(f"{surface.name} is not followed yet; follow it, then its frames can be merged.")
            return
        frames = (Frames(first=marked.first, last=marked.last),) if marked is not None else ()
        plate = CleanPlate(
            id=new_id(), name=free_name(f"{surface.name} merged", shot.clean_plates), surface_id=surface_id,
            home_frame=surface.home_frame, base=Merged(frames=frames), rest=rest,
            window=None if window == shot.footage.bounds else (window.left, window.top, window.right, window.bottom),
        )  # fmt: skip
        fix_id = found[1].id if found is not None else ""

        def edit(project: Project) -> Project:
            project = edits.add_clean_plate(project, shot.id, plate)
            return with_plate_used(project, shot.id, fix_id if fill is not None else "", plate, rest=fill is Donors)

        def returned(share: float) -> None:
            if session.commit(f"Merge {surface.name}", edit):
                session.set_desk(plate_id=plate.id, surface_id=surface_id, step=Step.FILL, look=Look.CLEAN_PLATE,
                                 paints_shot=False, **session.desk.with_brush("clone"))  # fmt: skip
                lacks = "" if share > WHOLE or rest is not None else " What no frame shows is striped: paint it"
                session.note_shown.emit(f"Merged {surface.name}.{lacks}")

        add = partial(edits.add_clean_plate, shot_id=shot.id, plate=plate)
        self._make_merged(surface.name, plate, add, returned)

    def merged_scale(self, scale: float) -> None:
        """Merge the clean plate in hand anew, at so many times the shot's resolution; what is painted on it stays."""
        session, plate = self._session, self._session.desk.plate(self._session.project)
        if plate is None or not isinstance(plate.base, Merged) or plate.scale == scale:
            return
        edit = partial(edits.change_clean_plate, shot_id=session.desk.shot_id, plate_id=plate.id, scale=scale)

        def returned(share: float) -> None:
            session.commit(f"{plate.name} at {scale:g} times the resolution", edit)

        self._make_merged(plate.name, replace(plate, scale=scale), edit, returned)

    def _make_merged(
        self, name: str, plate: CleanPlate, edit: Callable[[Project], Project], returned: Callable[[float], None]
    ) -> None:
        """Merge a plate beside everything else, as it will be after an edit."""
        session, shot_id = self._session, self._session.desk.shot_id
        told = partial(self._work.tell_later, f"Merging {name}")

        try:
            shot = edit(session.project).shot(shot_id)
        except EditError as error:
            session.error_shown.emit(str(error))
            return
        self._work.run(
            f"Merging {name}", "merge", lambda check: session.engine.merge(shot, plate, check, told), returned
        )

    def donor_map(self) -> None:
        """Look at where each pixel comes from, or at the result again."""
        is_on = self._session.desk.look is Look.DONOR_MAP
        self._session.set_desk(look=Look.RESULT if is_on else Look.DONOR_MAP)

    def least_seen(self) -> None:
        """Go to the frame of which other frames show least, with the map in sight."""
        seen = self._session.seen(self._session.desk.fix_id)
        if not seen:
            return
        frame = min(seen, key=lambda one: seen[one])
        self._session.go_to(frame)
        self._session.set_desk(look=Look.DONOR_MAP)
        self._session.note_shown.emit(f"Frame {frame}: {100 * seen[frame]:.1f} % of the cover is seen elsewhere")
