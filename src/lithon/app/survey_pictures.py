"""The survey's page with its pictures: the whole, and the worst of what was found."""

from __future__ import annotations

import tempfile
from pathlib import Path

import lithon
from lithon.app.pictures import picture_of_finding, picture_of_model
from lithon.exchange.step_read import Arrival
from lithon.exchange.step_write import save_atomically
from lithon.project.survey_page import survey_html

#: Findings that get a picture, worst first, one of each kind and text.
_SHOWN = 8


def write_survey(name: str, arrival: Arrival, size: float, path: Path) -> None:
    """Survey a model and write the page."""
    model = arrival.model
    found = lithon.findings(model, size)
    first = {(f.kind, f.text): f for f in reversed(found)}
    worst = sorted(first.values(), key=found.index)[:_SHOWN]
    pictures = []
    with tempfile.TemporaryDirectory() as folder:
        at = Path(folder) / "picture.png"
        picture_of_model(model, at)
        pictures.append((at.read_bytes(), f"{name} as it was read"))
        for finding in worst:
            picture_of_finding(model, finding, at)
            pictures.append((at.read_bytes(), finding.text))
    facts = lithon.survey_of(model, size)
    unit = arrival.unit.unit if arrival.unit is not None else ""
    page = survey_html(name, facts, arrival.notes, unit, pictures)
    save_atomically(path, page.encode("utf-8"))
