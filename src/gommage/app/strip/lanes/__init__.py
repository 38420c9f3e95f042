"""The lanes of the frame strip, one file a lane: each says when it has something to show, and draws it."""

from gommage.app.strip.lanes.camera import CameraLane
from gommage.app.strip.lanes.check import CheckLane
from gommage.app.strip.lanes.donors import DonorsLane
from gommage.app.strip.lanes.drift import DriftLane
from gommage.app.strip.lanes.follow import FollowLane
from gommage.app.strip.lanes.keys import KeysLane
from gommage.app.strip.lanes.lane import Lane
from gommage.app.strip.lanes.strokes import StrokesLane

__all__ = ["LANES", "CameraLane", "CheckLane", "DonorsLane", "DriftLane", "FollowLane", "KeysLane", "StrokesLane"]

LANES: tuple[Lane, ...] = (
    FollowLane(),
    CameraLane(),
    KeysLane(),
    DriftLane(),
    DonorsLane(),
    StrokesLane(),
    CheckLane(),
)
"""From the top down."""
