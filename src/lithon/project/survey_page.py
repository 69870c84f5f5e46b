"""The survey of a file as one HTML page, its pictures within it."""

from __future__ import annotations

import base64
from collections.abc import Sequence
from typing import Any

from jinja2 import Environment
from markupsafe import Markup

from lithon.project.report import BODIES, STYLE

_PAGE = (
    """<!doctype html>
<html lang="en"><head><meta charset="utf-8"><title>{{ name }}: survey</title><style>{{ style }}
.stops { color: #a43c2e; } .costs { color: #8a5f14; } .note { color: #6c665b; }
.pictures { display: grid; grid-template-columns: repeat(auto-fill, minmax(16rem, 1fr)); gap: 1rem; }
figure { margin: 0; } figcaption { font-size: .9rem; }</style></head><body>
<h1>{{ name }}</h1>
<p>Read against elements of {{ "%.4g"|format(size) }} mm{% if unit %}; the file names no unit and was read in
{{ unit }}{% endif %}.
{% if forecast %}A mesh would have about {{ "{:,}".format(forecast.elements).replace(",", " ") }} elements, the
smallest about {{ "%.3g"|format(forecast.smallest_mm) }} mm; {{ forecast.for_small_things }} of them are there for small
things.{% for p in forecast.parts %} {{ p.part|capitalize }}: about {{ p.elements }}.{% endfor %}{% endif %}</p>
{% if pictures %}<section><div class="pictures">{% for image, caption in pictures %}
<figure><img src="data:image/png;base64,{{ image }}" alt="{{ caption }}"><figcaption>{{ caption }}</figcaption></figure>
{% endfor %}</div></section>{% endif %}
<section><h2>What stands between this and a mesh</h2>{% if findings %}<table>
<tr><th></th><th>finding</th><th class="n">size, mm</th><th>at</th><th>body</th><th class="n">elements</th>
<th>remedy</th></tr>
{% for f in findings %}<tr><td class="{{ f.severity }}">{{ f.severity }}</td><td>{{ f.text }}</td>
<td class="n">{{ "%.4g"|format(f.size_mm) }}</td><td>{% for c in f.place_mm %}{{ "%.4g"|format(c) }}
{% endfor %}</td><td>{{ f.body }}</td><td class="n">{{ f.elements or "" }}</td><td>{{ f.remedy }}</td></tr>{% endfor %}
</table>{% else %}<p>Nothing at this element size.</p>{% endif %}</section>
"""
    + BODIES
    + """
{% if notes %}<section><h2>Notes of the arrival</h2><ul>{% for n in notes %}<li>{{ n }}</li>{% endfor %}</ul></section>
{% endif %}</body></html>
"""
)


def survey_html(
    name: str,
    facts: dict[str, Any],
    notes: Sequence[str] = (),
    unit: str = "",
    pictures: Sequence[tuple[bytes, str]] = (),
) -> str:
    """The page of `survey`'s facts; pictures are (PNG, caption)."""
    shown = [(base64.b64encode(data).decode("ascii"), caption) for data, caption in pictures]
    return (
        Environment(autoescape=True)
        .from_string(_PAGE)
        .render(
            name=name,
            style=Markup(STYLE),
            size=facts["size_mm"],
            unit=unit,
            forecast=facts["forecast"],
            bodies=facts["bodies"],
            findings=facts["findings"],
            notes=notes,
            pictures=shown,
        )
    )
