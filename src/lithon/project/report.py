"""A report of the preparation as one HTML page."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
from jinja2 import Environment
from markupsafe import Markup

from lithon.geometry.facets import Facets
from lithon.mesh.mesh import Mesh
from lithon.project.ledger import Ledger
from lithon.survey.deviation import Deviation, deviation
from lithon.survey.report import survey_of

STYLE = """body { font: 15px/1.5 "DejaVu Sans", sans-serif; background: #ece7df; color: #25231f; max-width: 60rem;
       margin: 2rem auto; padding: 0 1rem; }
section { background: #f6f3ed; padding: 1rem 1.5rem; margin: 1rem 0; border-radius: 4px; }
h1 { font-weight: 500; } h2 { font-weight: 500; margin: 0 0 .5rem; color: #2c7a6b; font-size: 1.1rem; }
table { border-collapse: collapse; width: 100%; font-variant-numeric: tabular-nums; }
td, th { text-align: left; padding: .25rem .6rem; border-bottom: 1px solid #d6cfc3; }
th { font-weight: 500; color: #6c665b; } .n { text-align: right; }
img { max-width: 100%; } .pair { display: flex; gap: .6rem; } .pair img { max-width: 49%; } .trouble { color: #a43c2e; }
.ends { display: flex; justify-content: space-between; margin: .3rem 0; padding-top: 14px;
        background: linear-gradient(90deg, #2c7a6b, #f6f3ed, #a43c2e) top/100% 10px no-repeat; }
"""

#: The table of bodies, as both pages show it.
BODIES = """<section><h2>Bodies</h2><table><tr><th>body</th><th class="n">faces</th><th class="n">volume, mm³</th>
<th class="n">area, mm²</th><th class="n">shortest edge, mm</th><th>closed</th></tr>
{% for b in bodies %}<tr><td>{{ b.name }}</td><td class="n">{{ b.faces }}</td>
<td class="n">{{ "%.3f"|format(b.volume_mm3) }}</td><td class="n">{{ "%.3f"|format(b.area_mm2) }}</td>
<td class="n">{{ "%.4g"|format(b.shortest_edge_mm) }}</td><td>{{ "yes" if b.closed else "no" }}</td></tr>
{% endfor %}</table></section>"""

_PAGE = (
    """<!doctype html>
<html lang="en"><head><meta charset="utf-8"><title>{{ name }}: preparation</title>
<style>
{{ style }}</style></head><body>
<h1>{{ name }}</h1>
<p>Prepared from <code>{{ source }}</code> for elements of {{ "%.4g"|format(size) }} mm.</p>
{% for file, caption in pictures %}<section><img src="{{ file }}" alt="{{ caption }}"><p>{{ caption }}</p></section>
{% endfor %}
<section><h2>Steps</h2><table><tr><th>step</th><th class="n">faces</th><th class="n">volume, mm³</th></tr>
{% for e in entries %}<tr><td>{{ e.outcome.words }}{% if e.trouble %} <span class="trouble">{{ e.trouble }}</span>
{% endif %}</td><td class="n">{{ "%+d"|format(e.outcome.faces_change) }}</td>
<td class="n">{{ "%+.3f"|format(e.outcome.volume_change) }}</td></tr>{% endfor %}</table></section>
"""
    + """{% if steps %}<section><h2>Steps in pictures</h2>
<p>What goes is red, what is new is green.</p>
{% for s in steps %}<p>{{ loop.index }}. {{ s.words }}</p><div class="pair"><img src="{{ s.before }}" alt="before">
<img src="{{ s.after }}" alt="after"></div>{% endfor %}</section>{% endif %}
"""
    + BODIES
    + """{% if off %}<section><h2>How far off what was read</h2>
<table><tr><th></th><th class="n">at most, mm</th><th class="n">root mean square, mm</th></tr>
{% for name, found in off.items() %}<tr><td>{{ name }}</td><td class="n">{{ "%.3g"|format(found.most) }}</td>
<td class="n">{{ "%.3g"|format(found.mean) }}</td></tr>{% endfor %}</table>
{% if off_picture %}<img src="{{ off_picture }}" alt="deviation"><p class="ends"><span>{{ ends[0] }}</span>
<span>{{ ends[1] }}</span><span>{{ ends[2] }}</span></p>{% endif %}</section>{% endif %}
<section><h2>What is left to look at</h2>{% if findings %}<table>
<tr><th>finding</th><th>body</th><th>remedy</th></tr>
{% for f in findings %}<tr><td>{{ f.text }}</td><td>{{ f.body }}</td><td>{{ f.remedy }}</td></tr>{% endfor %}
</table>{% else %}<p>Nothing at this element size.</p>{% endif %}</section>
{% if mesh %}<section><h2>Mesh</h2>
<p>{{ mesh.nodes }} nodes, {{ mesh.count }} {{ mesh.kind }}; volume over exact volume {{ "%.5f"|format(mesh.ratio) }};
smallest dihedral angle {{ "%.1f"|format(mesh.smallest) }}°, worst scaled Jacobian {{ "%.3f"|format(mesh.jacobian) }};
{{ "matching on all bonded faces" if mesh.conformal else "not conformal" }}.</p>
<svg viewBox="0 0 640 180" role="img" aria-label="histogram of smallest dihedral angles">
{% for bar in mesh.bars %}
<rect x="{{ bar.x }}" y="{{ bar.y }}" width="{{ bar.w }}" height="{{ bar.h }}" fill="#2c7a6b"/>
{% endfor %}<text x="320" y="176" text-anchor="middle" font-size="12" fill="#6c665b">smallest dihedral angle,
0 to 72 degrees</text></svg></section>{% endif %}
</body></html>
"""
)


@dataclass(frozen=True, slots=True)
class StepPictures:
    """A step in pictures: its words, and where its pictures before and after are, or these themselves as data."""

    words: str
    before: str
    after: str


@dataclass(frozen=True, slots=True)
class Pictures:
    """What a report shows: of the steps, and of the deviation from what was read (as data, or empty)."""

    steps: Sequence[StepPictures] = ()
    off: str = ""


#: Makes the pictures of a report; whoever can draw gives one.
Painter = Callable[[Ledger, Deviation | None], Pictures]


def off_what_was_read(ledger: Ledger) -> tuple[Deviation, Deviation] | None:
    """How far what was read stands off what is there, and the other way round; None where no triangles were read, or
    nothing has become of them."""
    base, model = ledger.base, ledger.model
    if model is base or not any(isinstance(f.surface, Facets) for f in base.faces()):
        return None
    return deviation(base, model), deviation(model, base)


def report_html(
    ledger: Ledger, mesh: Mesh | None = None, pictures: Sequence[tuple[str, str]] = (), paint: Painter | None = None
) -> str:
    """The page; pictures are (file name, caption), `paint` makes those of the steps and of the deviation."""
    off = off_what_was_read(ledger)
    drawn = paint(ledger, off[0] if off else None) if paint is not None else Pictures()
    facts = survey_of(ledger.model, ledger.size)
    page = Environment(autoescape=True).from_string(_PAGE)
    return page.render(
        name=ledger.source.name,
        style=Markup(STYLE),  # ours, and no text of a file
        source=ledger.source.name,
        size=ledger.size,
        pictures=pictures,
        steps=drawn.steps,
        off=dict(zip(("what was read, to what is there", "what is there, to what was read"), off or (), strict=False)),
        off_picture=drawn.off,
        ends=off[0].ends() if off else (),
        entries=[e for e in ledger.entries[: ledger.position] if e.on],
        bodies=facts["bodies"],
        findings=facts["findings"],
        mesh=_mesh_facts(mesh) if mesh is not None else None,
    )


def _mesh_facts(mesh: Mesh) -> dict[str, Any]:
    counts, _ = np.histogram(mesh.quality.smallest_angle, bins=36, range=(0.0, 72.0))
    top = max(1, int(counts.max()))
    bars = [
        {"x": round(20 + k * 16.8, 1), "w": 14, "h": round(150 * c / top, 1), "y": round(155 - 150 * c / top, 1)}
        for k, c in enumerate(counts.tolist())
    ]
    return {
        "kind": mesh.kind,
        "nodes": len(mesh.points),
        "count": len(mesh.elements),
        "ratio": mesh.volume_ratio,
        "smallest": float(mesh.quality.smallest_angle.min()),
        "jacobian": float(mesh.quality.scaled_jacobian.min()),
        "conformal": mesh.conformal(),
        "bars": bars,
    }
