"""Following: where a surface is on every frame, and by how many pixels that may be off."""

from gommage.core.follow.correct import smoothed
from gommage.core.follow.exchange import read_track, write_track
from gommage.core.follow.masks import Mask, polygon_mask
from gommage.core.follow.patterns import choose_pattern, detect_spots, spots_near
from gommage.core.follow.plane import follow_plane
from gommage.core.follow.points import aimed, follow_points
from gommage.core.follow.stations import stretches
from gommage.core.follow.steps import Direction, FollowStep, Surroundings, with_spots, with_step

__all__ = [
    "Direction",
    "FollowStep",
    "Mask",
    "Surroundings",
    "aimed",
    "choose_pattern",
    "detect_spots",
    "follow_plane",
    "follow_points",
    "polygon_mask",
    "read_track",
    "smoothed",
    "spots_near",
    "stretches",
    "with_spots",
    "with_step",
    "write_track",
]
