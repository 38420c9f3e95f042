"""The camera of a shot, solved from features; planes in its scene, and what polishes them."""

from gommage.core.follow.scene.camera import solved
from gommage.core.follow.scene.lens_files import read_lens, write_lens
from gommage.core.follow.scene.pieces import Piece, found_pieces
from gommage.core.follow.scene.planes import fitted_plane, inverse_depths
from gommage.core.follow.scene.polish import PlaneToPolish, Polished, polished
from gommage.core.follow.scene.spheres import turned_camera
from gommage.core.follow.scene.tracks import Tracks, tracked

__all__ = [
    "Piece",
    "PlaneToPolish",
    "Polished",
    "Tracks",
    "fitted_plane",
    "found_pieces",
    "inverse_depths",
    "polished",
    "read_lens",
    "solved",
    "tracked",
    "turned_camera",
    "write_lens",
]
