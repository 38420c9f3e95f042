"""Pictures of the window in each step of the work, from the demo shot: `make shots`.

Usage: screenshots.py FOLDER [NAME ...]
"""

from __future__ import annotations

import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

import numpy as np
import platformdirs
from msgspec.structs import replace as msgspec_replace
from PySide6.QtCore import QPoint, QPointF, QRect, Qt
from PySide6.QtGui import QColor, QPainter
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication, QDialog, QToolButton

from gommage.app.desk import Life
from gommage.app.dialogs.render import RenderDialog
from gommage.app.look.theme import theme
from gommage.app.main_window import MainWindow
from gommage.app.start import make_application
from gommage.core.document import (
    Array,
    Brush,
    Fix,
    Matte,
    Painting,
    Project,
    Shape,
    ShapeKey,
    Shot,
    Source,
    Span,
    Stretch,
    Stroke,
    VertexKind,
    edits,
    mappings_of,
)
from gommage.core.document.edits import Reach, Slot
from gommage.core.engine import Engine, Look, Step
from gommage.core.picture.writing import write_still
from gommage.demo import make_demo
from gommage.demo.backstage import make_backstage
from gommage.demo.backstage_job import HOME, backstage_begun
from gommage.demo.crosses import make_crosses
from gommage.demo.crosses_job import held_out
from gommage.demo.fills import moth_filled
from gommage.demo.footlights import make_footlights
from gommage.demo.footlights_job import tile_px, tripod_outlines, tripod_view
from gommage.demo.here import cross_example, crosses_followed, shadow_borrowed, sign_closed, strings_closed
from gommage.demo.job import HOME_FRAME, cleaned
from gommage.demo.moth import make_moth, make_rod_shadow, moth_sheet
from gommage.demo.reel import DUST, make_reel
from gommage.demo.reel_job import cured
from gommage.demo.sign import SIGN, make_sign
from gommage.demo.strings import make_strings

SIZE = 1280, 800
PLAIN = {
    "reach": Reach.THIS, "marked": None, "keys": (), "is_steady": False, "is_square_on": False, "has_wipe": False,
    "has_test_card": False, "has_trails": False,
}  # fmt: skip
PATIENCE_S = 120
VIEWS = (
    "follow", "sheet", "offers", "scene", "cover", "hold_out", "found", "fill", "other_frames", "donor_map",
    "texture", "strings", "borrow", "picture", "paint", "panorama", "match", "check", "render",
)  # fmt: skip


def settle(window: MainWindow) -> None:
    """Wait until every picture that was asked for is on screen."""
    end = time.monotonic() + PATIENCE_S
    calm = 0
    while calm < 5:
        QApplication.processEvents()
        calm = calm + 1 if window.session.jobs.is_idle() and not window.work.is_busy else 0
        if time.monotonic() > end:
            raise TimeoutError("the window does not come to rest")
        time.sleep(0.01)


class Photographer:
    """Puts the window into a state and takes its picture."""

    def __init__(self, folder: Path, wanted: list[str]) -> None:
        self.folder, self.wanted = folder, wanted
        make_application()
        self.demo = make_demo(Path(platformdirs.user_cache_dir("gommage")))
        engine = Engine()
        self.project = cleaned(engine, self.demo)
        state = Path(tempfile.mkdtemp())
        self.window = MainWindow(engine, (state / "journals",), state)
        self.window.resize(*SIZE)
        self.window.show()
        self._crosses: Project | None = None
        self._reel: Project | None = None
        self._moth: Project | None = None
        folder.mkdir(parents=True, exist_ok=True)

    def take(self, name: str, arrange: Callable[[], QDialog | None]) -> None:
        """Arrange a view and keep its picture, with the dialog that it gives back over it."""
        if self.wanted and name not in self.wanted:
            return
        dialog = arrange()
        if dialog is not None:
            dialog.show()
        settle(self.window)
        picture = self.window.grab()
        if dialog is not None:
            painter = QPainter(picture)
            painter.fillRect(picture.rect(), QColor(0, 0, 0, 90))
            over = dialog.grab()
            at = QPoint(self.window.width() - dialog.width(), self.window.height() - dialog.height()) / 2
            painter.drawPixmap(at, over)
            painter.setPen(QColor(theme().line))
            painter.drawRect(QRect(at, dialog.size()))
            painter.end()
            dialog.close()
        picture.save(str(self.folder / f"{name}.png"))

    def desk(self, frame: int, step: Step, **changes: object) -> None:
        """Begin a view: the finished job, a frame, a step."""
        window = self.window
        if window.session.project is not self.project:
            window.session.begin(self.project)
        window.session.note_shown.emit("")
        window.session.set_desk(frame=frame, look=Look.RESULT, **PLAIN)
        window.panel.step_chosen.emit(step)
        window.session.set_desk(**changes)
        window.call("fit_view")

    def near_label(self, frame: int, zoom: float) -> None:
        """Look at where the label was."""
        x, y = self.demo.label_corners(frame).mean(axis=0)
        self.window.viewer.show_around(float(x), float(y), zoom)

    # -- views ----------------------------------------------------------------------------------------------

    def follow(self) -> None:
        """Show the column followed, with its lattice."""
        self.desk(1052, Step.FOLLOW)

    def sheet(self) -> None:
        """Show the column on all frames at once."""
        self.desk(1052, Step.FOLLOW)
        self.window.call("sheet")

    def cover(self) -> None:
        """Show the cover round the label, close up on the plate."""
        self.desk(1030, Step.COVER, look=Look.PLATE)
        self.near_label(1030, 3.0)

    def fill(self) -> None:
        """Half way through painting the label out, brush and source in sight."""
        self.desk(HOME_FRAME, Step.FILL)
        window, session = self.window, self.window.session
        plate = window.shot.clean_plates[0]
        strokes = plate.painting.strokes
        part = len(strokes) * 3 // 4
        gone = [stroke.id for stroke in strokes[part:]]
        session.commit("Remove strokes", edits.remove_strokes, window.shot.id, plate.id, gone)
        self.near_label(HOME_FRAME, 3.0)
        settle(window)
        window.viewer.pen_at = QPointF(*window.stage.ground().view_from_frame(strokes[part].points.values[0, :2]))
        session.set_desk(source=strokes[part].source)

    def match(self) -> None:
        """Light and grain at the dim end of the shot."""
        self.desk(1068, Step.MATCH)
        self.near_label(1068, 2.0)

    def check(self) -> None:
        """Measured, at the worst frame, wiped against the plate, held still."""
        self.desk(1060, Step.CHECK)
        self.window.work.measure()
        settle(self.window)
        self.window.call("worst_frame")
        self.window.session.set_desk(has_wipe=True, is_steady=True)
        self.near_label(HOME_FRAME, 2.0)

    def offers(self) -> None:
        """Show a surface that is offered for what is drawn round a crate, its area and its lattice."""
        window, session = self.window, self.window.session
        demo = make_backstage(Path(platformdirs.user_cache_dir("gommage")))
        session.begin(Project.of(Shot(id="backstage", name="Backstage", footage=demo.footage)))
        session.set_desk(frame=HOME, look=Look.RESULT, **PLAIN)
        window.panel.step_chosen.emit(Step.FOLLOW)
        window.call("fit_view")
        line = demo.crate_outline(0, HOME)
        window.call("draw_around")
        wide = line.mean(axis=0) + 1.2 * (line - line.mean(axis=0))
        for x, y in [*wide, wide[0]]:
            at = window.stage.ground().view_from_frame(np.array([x, y]))
            QTest.mouseClick(window.viewer, Qt.MouseButton.LeftButton, pos=QPoint(*np.round(at).astype(int).tolist()))

    def scene(self) -> None:
        """Show a solved camera: its points, its figures, the floor with its lattice, the error of each frame."""
        window, session = self.window, self.window.session
        demo = make_backstage(Path(platformdirs.user_cache_dir("gommage")))
        session.begin(backstage_begun(session.engine, demo))
        session.set_desk(frame=1062, look=Look.RESULT, **PLAIN)
        window.panel.step_chosen.emit(Step.FOLLOW)
        session.set_desk(surface_id="floor", shows_points=True)
        QTest.mouseClick(window.panel.pages[Step.FOLLOW].camera.findChildren(QToolButton)[0], Qt.MouseButton.LeftButton)
        window.call("fit_view")

    def panorama(self) -> None:
        """Show the look straight down from a panoramic camera, the tripod half painted out."""
        window, session = self.window, self.window.session
        demo = make_footlights(Path(platformdirs.user_cache_dir("gommage")))
        project, view = tripod_view(session.engine, demo)
        tile = tile_px(project, view)
        brush = Brush(size_px=90.0, softness=0.4)
        strokes = []
        for number, line in enumerate(tripod_outlines(project, view, demo)):
            middle = line.mean(axis=0)
            points = np.column_stack([np.linspace(middle, middle + (30.0, 0.0), 12), np.ones(12)])
            strokes.append(Stroke(id=f"s{number}", points=Array(points), brush=brush, source=Source(dx=tile)))
        fix = Fix(id="tripod", name="Tripod", surface_id="floor", touch_up=Painting(strokes=tuple(strokes)))
        window.session.begin(edits.add_fix(project, view, fix))
        session.set_desk(shot_id=view, frame=1008, fix_id="tripod", fix_ids=("tripod",), look=Look.RESULT, **PLAIN)
        window.panel.step_chosen.emit(Step.FILL)
        session.set_desk(tool="clone", paints_shot=True, brush=brush, source=Source(dx=tile), stroke_ids=())
        window.call("fit_view")

    def crosses(self, **changes: object) -> None:
        """Begin a view of the crosses, with what passes in front held out."""
        window = self.window
        if self._crosses is None:
            demo = make_crosses(Path(platformdirs.user_cache_dir("gommage")))
            self._crosses = held_out(window.session.engine, demo)
        if window.session.project is not self._crosses:
            window.session.begin(self._crosses)
        window.session.set_desk(frame=1062, **PLAIN)
        window.panel.step_chosen.emit(Step.COVER)
        window.session.set_desk(**changes)

    def hold_out(self) -> None:
        """Show the veil over cross, head, hair and lantern, on a list of several parts."""
        self.crosses(look=Look.VEIL, slot=Slot.HOLD_OUTS, part_id="lantern", tool="edit")
        self.window.viewer.show_around(960, 520, 0.52)

    def reel(self, frame: int, **changes: object) -> None:
        """Begin a view of the old reel, painted on."""
        window = self.window
        if self._reel is None:
            demo = make_reel(Path(platformdirs.user_cache_dir("gommage")))
            self._reel = cured(window.session.engine, demo)
        if window.session.project is not self._reel:
            window.session.begin(self._reel)
        window.session.set_desk(frame=frame, fix_id="dirt", paints_shot=True, look=Look.RESULT, **PLAIN)
        window.panel.step_chosen.emit(Step.FILL)
        window.session.set_desk(**changes)
        window.call("fit_view")

    def paint(self) -> None:
        """Show a heal brush with a source from two frames before, over a speck that is not painted yet."""
        speck = max(DUST, key=lambda one: one.radius_px)
        self.reel(speck.frame, tool="heal", life=Life.THIS, source=None, source_frames=-2, stroke_ids=())
        session = self.window.session
        size = 5.0 * speck.radius_px
        session.set_desk(brush=msgspec_replace(session.desk.brush, size_px=size, softness=0.3))
        gone = [
            stroke.id
            for stroke in session.shot.fix("dirt").touch_up.strokes
            if stroke.frames and stroke.frames[0].first == stroke.frames[0].last == speck.frame
        ]
        session.commit("Remove strokes", edits.remove_strokes, session.shot.id, "dirt", gone)
        self.window.viewer.show_around(speck.x, speck.y, 3.0)
        settle(self.window)
        self.window.viewer.pen_at = QPointF(
            *self.window.stage.ground().view_from_frame(np.array([speck.x + 1.5 * speck.radius_px, speck.y]))
        )
        self.window.stage.refresh()
        settle(self.window)
        QTest.qWait(200)

    def moth(self, **changes: object) -> None:
        """Begin a view of the moth on a rod, filled from other frames."""
        window = self.window
        if self._moth is None:
            demo = make_moth(Path(platformdirs.user_cache_dir("gommage")))
            self._moth = moth_filled(window.session.engine, demo)
        if window.session.project is not self._moth:
            window.session.begin(self._moth)
        window.session.set_desk(frame=1031, fix_id="moth", fix_ids=("moth",), paints_shot=False, stroke_ids=(), **PLAIN)
        window.panel.step_chosen.emit(Step.FILL)
        window.session.set_desk(**changes)
        window.call("fit_view")

    def other_frames(self) -> None:
        """Show moth and rod gone, wiped against the plate, and the lane of what is seen elsewhere."""
        self.moth(look=Look.RESULT, tool="hand", has_wipe=True, wipe=0.35)

    def donor_map(self) -> None:
        """Show from which frame each pixel comes, and what no frame shows."""
        self.moth(look=Look.DONOR_MAP, tool="hand")

    def texture(self) -> None:
        """Show a sign on brick closed with bricks of the same wall, a guide led along a joint."""
        window, session = self.window, self.window.session
        demo = make_sign(Path(platformdirs.user_cache_dir("gommage")))
        project = sign_closed(session.engine, demo)
        fix = project.shots[0].fixes[0]
        home = fix.fill.home_frame
        here = mappings_of(project.shots[0])("wall", home).inverse()
        sign = demo.seen(SIGN, home)
        low, high = sign.min(axis=0), sign.max(axis=0)
        ends = here(np.array([[low[0] - 50, high[1] + 6], [high[0] + 50, high[1] + 4]]))
        line = Shape(id="guide", keys=(ShapeKey.of(home, ends),), kinds=(VertexKind.CORNER,) * 2, is_closed=False)
        guides = Matte.of(line, surface_id="wall")
        fill = msgspec_replace(fix.fill, guides=guides)
        window.session.begin(edits.change_fix(project, "theatre", "sign", fill=fill))
        session.set_desk(frame=home, fix_id="sign", fix_ids=("sign",), surface_id="wall", look=Look.RESULT, **PLAIN)
        window.panel.step_chosen.emit(Step.FILL)
        session.set_desk(tool="edit", slot=Slot.GUIDES, has_wipe=True, wipe=0.47)
        window.viewer.show_around(float(sign[:, 0].mean()), float(sign[:, 1].mean()), 2.2)

    def strings(self) -> None:
        """Show strings gone from a puppet's face, one line with a stretch of its own."""
        window, session = self.window, self.window.session
        demo = make_strings(Path(platformdirs.user_cache_dir("gommage")))
        project = strings_closed(session.engine, demo)
        stretch = Stretch(part_id="s1", first=0.34, last=0.68, width_px=5.0)
        window.session.begin(edits.change_fix(project, "theatre", "strings", fill=Span(stretches=(stretch,))))
        session.set_desk(frame=1030, fix_id="strings", fix_ids=("strings",), look=Look.RESULT, **PLAIN)
        session.set_desk(part_id="s1")
        window.panel.step_chosen.emit(Step.FILL)
        session.set_desk(tool="hand", part_id="s1", has_wipe=True, wipe=0.5)
        window.panel.pages[Step.FILL].span.stretches.setCurrentRow(0)
        window.viewer.show_around(470.0, 250.0, 1.25)

    def borrow(self) -> None:
        """Show a shadow gone from a painted sky, its cover and where that is borrowed from."""
        window, session = self.window, self.window.session
        demo = make_rod_shadow(Path(platformdirs.user_cache_dir("gommage")))
        window.session.begin(shadow_borrowed(session.engine, demo))
        session.set_desk(frame=1017, fix_id="shadow", fix_ids=("shadow",), look=Look.RESULT, **PLAIN)
        window.panel.step_chosen.emit(Step.FILL)
        session.set_desk(tool="borrow", has_wipe=False)
        window.viewer.show_around(520.0, 270.0, 1.1)

    def picture(self) -> None:
        """Show a paper moth from a file laid on the column, held by its corners."""
        folder = Path(tempfile.mkdtemp())
        moth = moth_sheet()
        write_still(folder / "moth.exr", np.ascontiguousarray(moth[..., :3]), bits=32, alpha=moth[..., 3])
        self.desk(1020, Step.FILL, fix_id="", fix_ids=(), surface_id="column")
        self.window.of_steps.pictures.fill_from_picture(folder / "moth.exr")
        settle(self.window)
        self.near_label(1020, 1.6)

    def found(self) -> None:
        """Show all crosses of tape on the sky, found from a red and a light one, one of them in hand."""
        window, session = self.window, self.window.session
        demo = make_crosses(Path(platformdirs.user_cache_dir("gommage")))
        project, frame = crosses_followed(session.engine, demo), 1080
        for index in (2, 0):
            example = cross_example(demo, mappings_of(project.shots[0]), index, frame)
            project = edits.add_part(project, "theatre", "marks", Slot.COVER, example)
        session.begin(project)
        session.set_desk(frame=frame, look=Look.RESULT, **PLAIN)
        window.panel.step_chosen.emit(Step.COVER)
        session.set_desk(fix_id="marks", fix_ids=("marks",), part_id=example.id, tool="hand")
        window.call("find_marks")
        settle(window)
        window.call("next_found")
        window.call("fit_view")

    def render(self) -> QDialog:
        """Where to, as what, which frames."""
        self.desk(1052, Step.CHECK)
        return RenderDialog(self.window.shot, Path("render"), lambda surface: True, self.window)


def main() -> None:
    """Take all views, or those that are named."""
    folder, *wanted = sys.argv[1:]
    photographer = Photographer(Path(folder), wanted)
    for name in VIEWS:
        photographer.take(name.replace("_", "-"), getattr(photographer, name))
    window = photographer.window
    window.session.saved = window.session.project
    window.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
    window.close()


if __name__ == "__main__":
    main()
