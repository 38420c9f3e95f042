"""The engine evaluates a shot: frames, results, views, measurements, renders, as jobs that can be stopped."""

from gommage.core.engine.cache import Cache, default_budget_bytes
from gommage.core.engine.evaluate import Engine, Patch
from gommage.core.engine.jobs import Jobs, Priority
from gommage.core.engine.render import RenderReport, RenderTarget, render, render_in_processes
from gommage.core.engine.steps import Advice, State, Step, steps_of
from gommage.core.engine.views import Look, ViewRequest, view_key

__all__ = [
    "Advice",
    "Cache",
    "Engine",
    "Jobs",
    "Look",
    "Patch",
    "Priority",
    "RenderReport",
    "RenderTarget",
    "State",
    "Step",
    "ViewRequest",
    "default_budget_bytes",
    "render",
    "render_in_processes",
    "steps_of",
    "view_key",
]
