"""Surfaces that propose themselves: looked for around a thing or over the picture, taken or left by a key."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace

import numpy as np

from gommage.app.hands.names import free_name
from gommage.app.laid_out import Offered
from gommage.app.session import Session
from gommage.app.work import Work
from gommage.core.document import Array, Matte, PlaneFollow, Shape, Still, Surface, edits, new_id, placement
from gommage.core.document.records import How
from gommage.core.engine import Look, Step, find_pieces
from gommage.core.follow import Direction
from gommage.core.follow.scene import Piece
from gommage.core.geometry import IDENTITY, Points, box_of

__all__ = ["OfferCommands", "leave_offer", "next_offer", "take_offer"]


class OfferCommands:
    """Looking for surfaces. Taking and leaving are the commands of all that is found."""

    def __init__(self, session: Session, work: Work) -> None:
        self._session, self._work = session, work

    def find_surfaces(self) -> None:
        """Look for surfaces around the shape in hand; in Follow, over the whole picture."""
        desk, shot = self._session.desk, self._session.shot
        part = desk.part(self._session.shown) if desk.step is not Step.FOLLOW else None
        thing = None
        if part is not None and shot is not None and (shape := desk.shape(self._session.shown)) is not None:
            surface_id = part.source.surface_id  # type: ignore[union-attr]
            placed = placement(shot, shot.surface(surface_id)) if surface_id else None
            there = IDENTITY if not surface_id else placed.mapping(desk.frame) if placed is not None else None
            thing = None if there is None else there(shape.points_at(desk.frame))
        self._look(thing)

    def find_surfaces_around(self) -> None:
        """Look for surfaces around what was drawn."""
        self._look(np.array(self._session.desk.scene_outline))

    def draw_around(self) -> None:
        """Draw round a thing, to find the surfaces around and behind it."""
        self._session.set_desk(surface_id="", step=Step.FOLLOW, tool="draw", draws="around", part_id="",
                               look=Look.RESULT)  # fmt: skip

    def _look(self, thing: Points | None) -> None:
        session, shot, frame = self._session, self._session.shot, self._session.desk.frame
        if shot is None:
            return

        def run(check: Callable[[], None]) -> tuple[Piece, ...]:
            return find_pieces(session.engine, shot, frame, thing, check)

        def came(pieces: tuple[Piece, ...]) -> None:
            if not pieces:
                session.error_shown.emit("No surface is sure here. Draw an area by hand, or look from another frame.")
                return
            session.set_desk(offered=Offered(pieces, frame), step=Step.FOLLOW, tool="hand", surface_id="", frame=frame,
                             scene_outline=(), draws="surface", look=Look.RESULT)  # fmt: skip
            count = f"{len(pieces)} surfaces" if len(pieces) > 1 else "One surface"
            session.note_shown.emit(f"{count} found: K takes it, L leaves it, U shows the next.")

        self._work.run("Looking for surfaces", "pieces", run, came)


def _how(piece: Piece, surface_id: str, frame: int) -> How:
    if piece.is_still:
        return Still(corners=Array(box_of(piece.outline)))
    return PlaneFollow(areas=Matte.of(Shape.of(new_id(), frame, piece.outline), surface_id=surface_id))


def take_offer(session: Session, work: Work) -> None:
    """Make the surface that is offered one of the shot's, and follow it."""
    offered, shot = session.desk.offers, session.shot
    if offered is None or shot is None:
        return
    piece, surface_id = offered.piece, new_id()
    name = free_name("Still" if piece.is_still else "Surface", shot.surfaces)
    fresh = Surface(id=surface_id, name=name, home_frame=offered.frame, how=_how(piece, surface_id, offered.frame))
    if not session.commit(f"Take {name}", edits.add_surface, shot.id, fresh):
        return
    rest = offered.without_this()
    session.set_desk(surface_id=surface_id, offered=rest, tool="edit", frame=offered.frame, part_id="")
    if rest is not None:
        session.note_shown.emit(f"{name} is taken; U shows the others.")
    if not piece.is_still:
        work.follow(Direction.BOTH)


def leave_offer(session: Session) -> None:
    """Leave the surface that is offered; the next is shown."""
    offered = session.desk.offers
    if offered is not None:
        session.set_desk(offered=offered.without_this())


def next_offer(session: Session) -> None:
    """Show the next surface that is offered."""
    offered = session.desk.offered
    if offered is not None:
        step = 1 if session.desk.offers is not None else 0
        shown = replace(offered, at=(offered.at + step) % len(offered.pieces))
        session.set_desk(offered=shown, frame=offered.frame, surface_id="", tool="hand")
