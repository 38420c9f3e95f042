"""Following planes: where a surface is on every frame, and by how many pixels that may be off."""

from gommage.core.follow.plane import Direction, FollowStep, follow_plane, luminance, track_plane, with_step

__all__ = ["Direction", "FollowStep", "follow_plane", "luminance", "track_plane", "with_step"]
