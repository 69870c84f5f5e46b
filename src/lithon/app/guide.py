"""A job's page on the desk: one step at a time, above whatever the Docket shows."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from PySide6.QtCore import Qt

from lithon.app import theme
from lithon.app.demo import sample_file
from lithon.app.parts import Card, label
from lithon.jobs.pages import Page


def part_of(page: Page) -> Path | None:
    """The file that a job begins with; nothing where it is made from nothing."""
    from lithon.jobs.table import JOBS  # playing them needs more than the window does

    job = next(j for j in JOBS if j.ident == page.ident)
    if job.comes is None:
        return None
    return sample_file(job.comes.__name__.replace("_", "-"), job.comes, job.suffix)


def guide(page: Page, step: int, go: Callable[[int], object], close: Callable[[], object]) -> Card:
    """The card of a step; the lead is shown with the first."""
    card = Card("▸", theme.VERDIGRIS, f"{page.title[:1].upper()}{page.title[1:]}: step {step + 1} of {len(page.steps)}")
    card.setObjectName("card")
    if step == 0 and page.lead:
        card.lay.addWidget(_text(page.lead, "dim"))
    card.lay.addWidget(_text(page.steps[step]))
    if step:
        card.add_button("Back", lambda: go(step - 1))
    if step + 1 < len(page.steps):
        card.add_button("Next step", lambda: go(step + 1), "")
    card.add_button("Put away", close)
    return card


def _text(words: str, name: str = ""):
    out = label(words, name)
    out.setTextFormat(Qt.TextFormat.MarkdownText)
    return out
