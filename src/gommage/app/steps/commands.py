"""The commands of covering and filling that the window offers, put together."""

from __future__ import annotations

from PySide6.QtWidgets import QWidget

from gommage.app.picture.viewer import Viewer
from gommage.app.session import Session
from gommage.app.steps.cover.found import FoundCommands
from gommage.app.steps.cover.lines import LineCommands
from gommage.app.steps.fill.borrow import BorrowCommands
from gommage.app.steps.fill.commands import FillCommands
from gommage.app.steps.fill.picture import PictureCommands
from gommage.app.steps.fill.proposals import ProposalCommands
from gommage.app.steps.fill.texture import TextureCommands
from gommage.app.steps.follow.offers import OfferCommands
from gommage.app.steps.follow.panorama import PanoramaCommands
from gommage.app.steps.follow.scene import SceneCommands
from gommage.app.work import Work

__all__ = ["StepCommands"]


class StepCommands:
    """What the Found and Fill menus do, and lines."""

    def __init__(self, session: Session, work: Work, window: QWidget, viewer: Viewer) -> None:
        self.fills = FillCommands(session, work)
        self.textures = TextureCommands(session, work)
        self.proposals = ProposalCommands(session, work, self.textures)
        self.textures.next_proposal = self.proposals.next_proposal
        self.lines = LineCommands(session, work)
        self.finding = FoundCommands(session, work)
        self.borrowing = BorrowCommands(session)
        self.pictures = PictureCommands(session, window)
        self.scene = SceneCommands(session, work, window)
        self.offers = OfferCommands(session, work)
        self.panoramas = PanoramaCommands(session, work, viewer)

    @property
    def all(self) -> tuple[object, ...]:
        """All of them."""
        return (
            self.fills, self.textures, self.proposals, self.lines, self.finding, self.borrowing, self.pictures,
            self.scene, self.offers, self.panoramas,
        )  # fmt: skip
