"""The engine evaluates a shot: frames, results, views, measurements, renders, as jobs that can be stopped."""

from gommage.core.cover import matte_on
from gommage.core.engine.cache import Cache, default_budget_bytes
from gommage.core.engine.carrying import carried_over
from gommage.core.engine.evaluate import Engine, level_of
from gommage.core.engine.finding import found_sources
from gommage.core.engine.following import follow_surface, followed, followed_surface
from gommage.core.engine.hunting import found_dirt, found_scratches, part_of
from gommage.core.engine.inputs import FixInputs, frame_inputs, inputs_at, is_lit_on, mappings_of
from gommage.core.engine.jobs import Jobs, Priority
from gommage.core.engine.laid import Patch
from gommage.core.engine.laying import find_picture, fitted_corners, near_frame, picture_stamp, watched_file
from gommage.core.engine.lines import LineStep, follow_line, snapped_line, with_line
from gommage.core.engine.marking import found_marks
from gommage.core.engine.matte_files import FoundMatte, MatteTarget, find_matte, write_mattes
from gommage.core.engine.painting import LiveStroke, Shown
from gommage.core.engine.panoramas import follow_sphere, levelled_by, look_view, panorama_view, sphere_followed
from gommage.core.engine.placing import FoundPlace, found_places
from gommage.core.engine.plate_files import FoundPlate, find_plate, stamp_of, write_plate
from gommage.core.engine.proposals import Proposal, first_look, proposed_fills
from gommage.core.engine.proposing import proposed_key
from gommage.core.engine.render import RenderReport, RenderTarget, render, render_in_processes
from gommage.core.engine.sheets import Sheet, SheetRequest, sheet_key, sheet_of, sheet_pixels
from gommage.core.engine.solving import (
    Solved,
    camera_solved,
    find_pieces,
    laid_plane,
    picked_plane,
    plane_of_points,
    polish_planes,
    solve_camera,
    told_of_camera,
)
from gommage.core.engine.steps import Advice, State, Step, steps_of
from gommage.core.engine.summary import ShotSummary, SurfaceSummary, summarised
from gommage.core.engine.telling import told_of_stroke
from gommage.core.engine.views import BACKDROPS, Look, Veil, ViewRequest, view_key, view_pixels

__all__ = [
    "follow_sphere",
    "levelled_by",
    "look_view",
    "panorama_view",
    "sphere_followed",
    "Solved",
    "camera_solved",
    "find_pieces",
    "laid_plane",
    "picked_plane",
    "plane_of_points",
    "polish_planes",
    "solve_camera",
    "told_of_camera",
    "BACKDROPS",
    "Advice",
    "Cache",
    "Engine",
    "FixInputs",
    "FoundMatte",
    "FoundPlate",
    "Jobs",
    "LineStep",
    "LiveStroke",
    "Look",
    "MatteTarget",
    "Patch",
    "Priority",
    "Proposal",
    "RenderReport",
    "RenderTarget",
    "Sheet",
    "SheetRequest",
    "ShotSummary",
    "Shown",
    "State",
    "Step",
    "SurfaceSummary",
    "Veil",
    "ViewRequest",
    "carried_over",
    "default_budget_bytes",
    "find_matte",
    "first_look",
    "find_picture",
    "fitted_corners",
    "near_frame",
    "picture_stamp",
    "watched_file",
    "find_plate",
    "follow_line",
    "follow_surface",
    "followed",
    "found_dirt",
    "found_marks",
    "found_scratches",
    "part_of",
    "followed_surface",
    "found_sources",
    "FoundPlace",
    "found_places",
    "frame_inputs",
    "inputs_at",
    "is_lit_on",
    "level_of",
    "mappings_of",
    "matte_on",
    "proposed_fills",
    "proposed_key",
    "render",
    "render_in_processes",
    "sheet_key",
    "snapped_line",
    "with_line",
    "sheet_of",
    "sheet_pixels",
    "stamp_of",
    "steps_of",
    "summarised",
    "told_of_stroke",
    "view_key",
    "view_pixels",
    "write_mattes",
    "write_plate",
]
