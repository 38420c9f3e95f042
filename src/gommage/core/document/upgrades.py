"""Projects of older versions: one step a version, plain data to plain data. They are read for ever."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

__all__ = ["UPGRADES"]

Plain = dict[str, Any]


def _to_version_2(plain: Plain) -> Plain:
    """Surfaces were planes of one area; a slip was one number a frame, without a reason."""
    for shot in plain["shots"]:
        for surface in shot.get("surfaces", ()):
            surface.pop("type", None)
            areas = [{"shape": surface.pop("area")}]
            surface["how"] = {"type": "plane", "areas": areas, "motion": surface.pop("motion", "perspective")}
            track = surface.get("track")
            if track is not None:
                slips = track.pop("slip_px")
                track["corner_slip_px"] = [[slip] * 4 for slip in slips]
                track["reasons"] = [""] * len(slips)
    return {**plain, "version": 2}


def _to_version_3(plain: Plain) -> Plain:
    """Covers and areas were lists of polygons; strokes carried their brush; frames had no open ends."""
    for shot in plain["shots"]:
        if shot["footage"].get("colour_space") == "scene-linear":
            shot["footage"]["colour_space"] = "Linear Rec.709 (sRGB)"
        for surface in shot.get("surfaces", ()):
            how = surface["how"]
            if how["type"] == "plane":
                how["areas"] = _matte_of_areas(how["areas"], surface["id"])
                how["keep_outs"] = _matte_of_areas(how.pop("keep_outs", ()), surface["id"])
        for plate in shot.get("clean_plates", ()):
            picture = plate.pop("picture", "")
            plate["base"] = {"type": "picture", "path": picture} if picture else {"type": "frame"}
            plate["painting"] = {"strokes": [_stroke(stroke) for stroke in plate.pop("strokes", ())]}
        shot["fixes"] = [_fix(fix) for fix in shot.get("fixes", ())]
    return {**plain, "version": 3}


def _matte_of_areas(areas: Any, surface_id: str) -> Plain:
    return {"parts": [_part(area["shape"], "" if area.get("stays_put") else surface_id, "corner") for area in areas]}


def _part(shape: Plain, surface_id: str, kind: str) -> Plain:
    keys = [
        {"frame": key["frame"], "vertices": [[*point, 0, 0, 0, 0, 0, 0] for point in key["points"]]}
        for key in shape["keys"]
    ]
    kinds = ["smooth" if shape.get("is_smooth") else kind] * len(keys[0]["vertices"])
    drawn = {"id": shape["id"], "keys": keys, "kinds": kinds}
    return {"id": shape["id"], "source": {"type": "drawn", "shape": drawn, "surface_id": surface_id}}


def _stroke(stroke: Plain) -> Plain:
    brush = {name: stroke[name] for name in ("tool", "size_px", "softness", "opacity") if name in stroke}
    return {"id": stroke["id"], "points": stroke["points"], "brush": brush, "source": stroke.get("source", {})}


def _fix(fix: Plain) -> Plain:
    cover, match = fix.get("cover", {}), fix.get("match", {})
    frames = fix.get("frames")
    kept = {name: fix[name] for name in ("id", "name", "surface_id", "is_on", "fill") if name in fix}
    return kept | {
        "cover": {
            "parts": [_part(shape, fix["surface_id"], "corner") for shape in cover.get("shapes", ())],
            "grow_px": cover.get("grow_px", 0.0),
            "softness": {"outwards_px": cover.get("softness_px", 6.0)},
        },
        "match": {
            "light": {
                "is_measured": match.get("is_light_matched", True),
                "exposure_stops": match.get("light_stops", 0.0),
            },
            "grain": {"amount": match.get("grain", 1.0), "is_laid": match.get("is_grain_laid", True)},
        },
        "frames": [frames] if frames else [],
    }


UPGRADES: dict[int, Callable[[Plain], Plain]] = {1: _to_version_2, 2: _to_version_3}
"""`UPGRADES[n]` takes a project of version n to n + 1."""
