"""The commands of filling: what a fix is filled from, and where that is seen."""

from __future__ import annotations

from msgspec.structs import replace

from gommage.app.session import Session
from gommage.core.document import Donors, Fix, Painted, Plates, Shot, edits
from gommage.core.document.records import Fill
from gommage.core.engine import Look, Step
from gommage.core.fill import surfaces_behind

__all__ = ["FillCommands"]


class FillCommands:
    """What the Fill menu does."""

    def __init__(self, session: Session) -> None:
        self._session = session

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
        if not behind:
            self._session.error_shown.emit("Other frames are brought along a followed surface. Follow one first.")
            return
        if self._fill(f"Fill {fix.name} from other frames", Donors(surface_ids=behind)):
            self._session.set_desk(step=Step.FILL, tool="hand", look=Look.RESULT)

    def fill_from_plates(self) -> None:
        """Fill from clean plates: the one in hand, if it lies on the fix's surface."""
        found, plate = self._fix(), self._session.desk.plate(self._session.project)
        if found is not None and not isinstance(found[1].fill, Plates):
            rest = found[1].fill.rest_plate_ids if isinstance(found[1].fill, Donors) else ()
            own = (plate.id,) if plate is not None and plate.surface_id == found[1].surface_id else ()
            self._fill(f"Fill {found[1].name} from clean plates", Plates(plate_ids=rest or own))

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
