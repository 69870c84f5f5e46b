"""The survey of a model as plain data, for the command line, scripts and the report."""

from __future__ import annotations

from typing import Any

from lithon.brep.analysis.symmetry import symmetry
from lithon.brep.boxes import box
from lithon.brep.copies import root_of
from lithon.brep.measures import mass_properties
from lithon.brep.topology import Body, Model
from lithon.brep.validate import flaws
from lithon.errors import Refusal
from lithon.survey.costs import Costs, costs
from lithon.survey.findings import findings
from lithon.survey.forecast import forecast
from lithon.survey.outlook import smaller_parts


def default_size(model: Model) -> float:
    """A first element size: about thirty along the longest side, as a round number."""
    import numpy as np

    from lithon.brep.topology import rough_box

    span = rough_box(model.bodies)
    raw = float((span[1] - span[0]).max()) / 30.0
    if raw <= 0.0:
        return 1.0
    power = 10.0 ** np.floor(np.log10(raw))
    return float(min((1.0, 2.0, 2.5, 4.0, 5.0, 8.0, 10.0), key=lambda m: abs(m * power - raw)) * power)


def _representation(body: Body) -> str:
    """exact, facets, or mixed."""
    body = root_of(body)
    facets = {face.surface.kind == "facets" for face in body.faces}
    return "mixed" if len(facets) > 1 else "facets" if True in facets else "exact"


def body_facts(body: Body, tolerance: float) -> dict[str, Any]:
    mass, root = mass_properties(body), root_of(body)
    kinds = {flaw.kind for flaw in flaws(root, tolerance)}
    return {
        "name": body.name,
        "representation": _representation(body),
        "closed": not kinds & {"open edge", "crowded edge", "flipped face", "leak"},
        "faces": len(body.uses),
        "edges": len(root.edges()),
        "volume_mm3": mass.volume,
        "area_mm2": mass.area,
        "box_mm": box(body).tolist(),
        "shortest_edge_mm": min((e.length for e in root.edges()), default=0.0),
    }


def survey_of(model: Model, size: float | None = None) -> dict[str, Any]:
    """Facts of each body, the findings at an element size (default: a sensible one) with the elements that each costs,
    and how many elements the whole, and parts that stand for it, would have."""
    used = size if size is not None else default_size(model)
    seen, price = _foreseen(model, used)
    return {
        "size_mm": used,
        "bodies": [body_facts(body, model.tolerance) for body in model.bodies],
        "findings": [{**f.as_json(), "elements": round(price.of(f))} for f in findings(model, used)],
        "forecast": seen,
    }


def _foreseen(model: Model, size: float) -> tuple[dict[str, Any] | None, Costs]:
    """The forecast and what things cost; neither where a body cannot even be drawn."""
    try:
        seen, price = forecast(model, size), Costs(costs(model, size))
    except Refusal:
        return None, Costs()
    parts = [{"part": part, "elements": n} for part, n in smaller_parts(symmetry(model), seen.elements)]
    facts = {"elements": seen.elements, "smallest_mm": seen.smallest_mm, "for_small_things": round(price.total)}
    return {**facts, "parts": parts}, price
