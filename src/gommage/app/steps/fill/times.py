"""From which frame, as panels tell it: so many away, or always the same."""

from __future__ import annotations

from gommage.core.document import FrameOffset, PinnedFrame, SourceTime
from gommage.core.fill.placed import frame_at

__all__ = ["told_time"]


def told_time(time: SourceTime, is_pinned: bool, number: int, frame: int) -> SourceTime:
    """Return from which frame something is taken as a panel says; another way of saying it changes nothing on a frame.

    Parameters
    ----------
    time : SourceTime
        As it was.
    is_pinned : bool
        Whether it is always the same frame from now on.
    number : int
        That the panel shows.
    frame : int
        The one on the desk.
    """
    if is_pinned == isinstance(time, PinnedFrame):
        return PinnedFrame(frame=number) if is_pinned else FrameOffset(frames=number)
    taken = frame_at(time, frame)
    return PinnedFrame(frame=taken) if is_pinned else FrameOffset(frames=taken - frame)
