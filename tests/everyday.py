"""Made-up parts of the kinds that come to the desk every day: lettering, wound wire, leads, lenses. Each with its
volume (mm3) from closed forms where there is one."""

from __future__ import annotations

import numpy as np
import scipy
from matplotlib.font_manager import FontProperties
from matplotlib.path import Path
from matplotlib.textpath import TextPath

from lithon.arrange.boolean import combine
from lithon.brep.extrude import extruded
from lithon.brep.topology import Body, Coedge, Edge, Face, FaceUse, vertex_at
from lithon.geometry.curves import Line
from lithon.geometry.frames import Frame
from lithon.geometry.splines import BSplineCurve, BSplineSurface
from lithon.geometry.surfaces import Plane
from lithon.samples.build import Piece, Round, prism, rectangle, revolved

UP, EAST = (0.0, 0.0, 1.0), (1.0, 0.0, 0.0)


def at(origin, z=UP, x=EAST):
    return Frame.of(origin, z, x)


def one(a, b, way):
    """What two bodies make, which is one."""
    (made,) = combine(a, b, way, 1e-7)
    return made


def less(body, tools):
    for tool in tools:
        body = one(body, tool, "subtract")
    return body


# ---- lettering


def letters(text, size, z, family="DejaVu Sans"):
    """A plane face for each part of a text about the origin at a height, bounded by lines and parabolas, and the area
    of all (mm2), from the corners and the control points."""
    path = TextPath((0.0, 0.0), text, size=size, prop=FontProperties(family=family, weight="bold"))
    box = path.get_extents()
    points = path.vertices - 0.5 * np.array([box.x0 + box.x1, box.y0 + box.y1])
    rings, k = [], 0
    while k < len(points):
        code = path.codes[k]
        if code == Path.MOVETO:
            rings.append([])
            start = last = points[k]
        elif code == Path.LINETO:
            if np.linalg.norm(points[k] - last) > 1e-9:
                rings[-1].append((last, points[k]))
            last = points[k]
        elif code == Path.CURVE3:
            rings[-1].append((last, points[k], points[k + 1]))
            last = points[k + 1]
            k += 1
        elif np.linalg.norm(start - last) > 1e-7:
            rings[-1].append((last, start))
        else:
            rings[-1][-1] = (*rings[-1][-1][:-1], start)
        k += 1
    # In this font what is outside runs clockwise.
    outer = [[p[::-1] for p in reversed(ring)] for ring in rings if _swept(ring) < 0.0]
    inner = [[p[::-1] for p in reversed(ring)] for ring in rings if _swept(ring) > 0.0]
    faces = []
    for ring in outer:
        around = Path([p[0] for p in ring])
        own = [hole for hole in inner if around.contains_point(hole[0][0])]
        faces.append(Face(Plane(at((0.0, 0.0, z))), tuple(_loop(r, z) for r in (ring, *own))))
    return faces, float(sum(map(_swept, (*outer, *inner))))


def _swept(ring):
    """The area that a ring of lines and parabolas goes around, positive where counter-clockwise."""
    total = 0.0
    for piece in ring:
        a, b = piece[0], piece[-1]
        total += 0.5 * (a[0] * b[1] - a[1] * b[0])
        if len(piece) == 3:  # between a parabola and its chord are two thirds of the triangle of its control points
            u, v = piece[1] - a, b - piece[1]
            total += (u[0] * v[1] - u[1] * v[0]) / 3.0
    return total


def _loop(ring, z):
    corners = [vertex_at((*piece[0], z)) for piece in ring]
    out = []
    for piece, a, b in zip(ring, corners, [*corners[1:], corners[0]], strict=True):
        if len(piece) == 2:
            edge = Edge(Line.through(a.point, b.point), 0.0, float(np.linalg.norm(b.point - a.point)), a, b)
        else:
            net = np.array([a.point, (*piece[1], z), b.point])
            edge = Edge(BSplineCurve(np.array([0.0, 0, 0, 1, 1, 1]), 2, net), 0.0, 1.0, a, b)
        out.append(Coedge(edge, True))
    return tuple(out)


def lettered(text, size, height, family="DejaVu Sans"):
    """A block with a text on it, or in it where the height is negative."""
    block = prism(rectangle(-3.0, -2.0, 3.0, 2.0), 1.0, name="block")
    faces, area = letters(text, size, 1.0 + min(height, 0.0), family)
    for face in faces:
        way = np.array([0.0, 0.0, height if height > 0.0 else 0.1 - height])
        block = one(block, extruded(face, way), "union" if height > 0.0 else "subtract")
    return block, 24.0 + height * area


# ---- wire


def wire(path, radius, name="wire"):
    """A round wire along points (n,3), its wall two halves of B-splines: circles carried along, exact at the points."""
    way = np.gradient(path, axis=0, edge_order=2)
    way /= np.linalg.norm(way, axis=1)[:, None]
    across = np.zeros_like(way)
    across[0] = np.cross(way[0], (0.3, 0.2, 1.0))
    across[0] /= np.linalg.norm(across[0])
    for k in range(1, len(path)):
        turned = across[k - 1] - (across[k - 1] @ way[k]) * way[k]
        across[k] = turned / np.linalg.norm(turned)
    other = np.cross(way, across)
    weights = np.array([1.0, np.sqrt(0.5), 1.0, np.sqrt(0.5), 1.0])
    ku = np.array([0.0, 0, 0, 0.5, 0.5, 1, 1, 1])
    far = np.append(0.0, np.cumsum(np.linalg.norm(np.diff(path, axis=0), axis=1)))
    nets = []
    for start in (0.0, np.pi):
        angle = start + np.pi * np.array([0.0, 0.25, 0.5, 0.75, 1.0])
        off = (radius / weights)[:, None] * np.stack([np.cos(angle), np.sin(angle)], axis=1)
        rings = path[:, None] + off[None, :, :1] * across[:, None] + off[None, :, 1:] * other[:, None]
        spline = scipy.interpolate.make_interp_spline(far / far[-1], rings.reshape(len(path), -1))
        nets.append((spline.c.reshape(-1, 5, 3), spline.t))
    (one_net, kv), (two_net, _) = nets
    low = [vertex_at(one_net[0, 0]), vertex_at(one_net[0, -1])]
    high = [vertex_at(one_net[-1, 0]), vertex_at(one_net[-1, -1])]
    seams = [Edge(BSplineCurve(kv, 3, one_net[:, c]), 0.0, 1.0, low[c], high[c]) for c in (0, -1)]
    arc = lambda net, row, a, b: Edge(BSplineCurve(ku, 2, net[row], weights), 0.0, 1.0, a, b)  # noqa: E731
    lows = [arc(one_net, 0, low[0], low[1]), arc(two_net, 0, low[1], low[0])]
    highs = [arc(one_net, -1, high[0], high[1]), arc(two_net, -1, high[1], high[0])]
    faces = []
    for k, net in enumerate((one_net, two_net)):
        surface = BSplineSurface(ku, kv, 2, 3, np.swapaxes(net, 0, 1).copy(), np.repeat(weights[:, None], len(net), 1))
        loop = Coedge(lows[k], True), Coedge(seams[1 - k], True), Coedge(highs[k], False), Coedge(seams[k], False)
        faces.append(Face(surface, (loop,), True))
    foot = Plane(Frame.of(path[0], -way[0], across[0]))
    end = Plane(Frame.of(path[-1], way[-1], across[-1]))
    faces.append(Face(foot, ((Coedge(lows[1], False), Coedge(lows[0], False)),)))
    faces.append(Face(end, ((Coedge(highs[0], True), Coedge(highs[1], True)),)))
    return Body(tuple(map(FaceUse, faces)), name)


def coil(radius, rise, turns, thick):
    """A coil of round wire, and its volume after Pappus."""
    s = np.linspace(0.0, 2.0 * np.pi * turns, 24 * turns + 1)
    path = np.stack([radius * np.cos(s), radius * np.sin(s), rise * s / (2.0 * np.pi)], axis=1)
    long = turns * float(np.hypot(2.0 * np.pi * radius, rise))
    return wire(path, thick), np.pi * thick**2 * long


# ---- round and bent things


def lens(gap):
    """A dome on a flange that is cut flat so near beside it that between the two there is a gap (mm) of its top."""
    flange = prism(Round((0.0, 0.0), 2.9), 1.0, name="flange")
    flange = one(flange, prism(rectangle(2.5 + gap, -5.0, 5.0, 5.0), 3.0, at((0.0, 0.0, -1.0))), "subtract")
    dome = revolved(
        [Piece((0.0, 1.0)), Piece((2.5, 1.0)), Piece((2.5, 6.0), (0.0, 6.0)), Piece((0.0, 8.5))], at((0, 0, 0))
    )
    half = float(np.arccos((2.5 + gap) / 2.9))
    cut = 2.9**2 * (half - np.sin(half) * np.cos(half))
    return one(flange, dome, "union"), np.pi * 2.9**2 - cut + np.pi * 2.5**2 * 5.0 + 2.0 / 3.0 * np.pi * 2.5**3


def beaded_lead():
    """A lead with a bead about its end: of the two only the circle is shared where both end."""
    lead = prism(Round((0.0, 0.0), 0.25), 4.0, at((0.0, 0.0, -4.0)), "lead")
    bead = prism(Round((0.0, 0.0), 0.6), 0.3, at((0.0, 0.0, -0.3)), "bead")
    return [one(bead, lead, "subtract"), lead], np.array([np.pi * (0.36 - 0.0625) * 0.3, np.pi * 0.25])


def slotted_screw(wide):
    """A cheese head with a chamfer, slotted through: the volume with the chamfer and what that took, both less the slot
    by quadrature."""
    head = revolved(
        [Piece((0, 0)), Piece((1.45, 0)), Piece((1.45, 1.2)), Piece((1.25, 1.4)), Piece((0, 1.4))],
        at((0, 0, 0)),
        "head",
    )
    return one(head, prism(rectangle(-3.0, -wide, 3.0, wide), 1.0, at((0.0, 0.0, 0.8))), "subtract")


def gull_wing(width, thick=0.2, inner=0.15):
    """A lead bent twice, and its volume."""
    outer, high, out = inner + thick, 0.9, 1.0
    down, foot = out + inner, out + inner + outer
    p = [
        Piece((0.0, high)), Piece((out, high), (out, high - inner), False), Piece((down, high - inner)),
        Piece((down, outer), (foot, outer)), Piece((foot, 0.0)), Piece((out + 2.0, 0.0)), Piece((out + 2.0, thick)),
        Piece((foot, thick), (foot, outer), False), Piece((out + outer, outer)),
        Piece((out + outer, high - inner), (out, high - inner)), Piece((out, high + thick)), Piece((0.0, high + thick)),
    ]  # fmt: skip
    bends = np.pi / 4.0 * (outer**2 - inner**2) * 2.0
    straight = thick * (out + (high - inner - outer) + (2.0 - inner - outer))
    return prism(p, width, at((0.0, 0.0, 0.0), (0.0, -1.0, 0.0)), "lead"), width * (bends + straight)


def heat_sink(fins=9):
    """A base with drafted fins, bored through two of its ends, and its volume without what bores take of fins."""
    body = prism(rectangle(-20.0, -16.0, 20.0, 16.0), 4.0, name="sink")
    for k in range(fins):
        y = 3.5 * (k - 0.5 * (fins - 1))
        side = [Piece((y - 0.75, 3.0)), Piece((y + 0.75, 3.0)), Piece((y + 0.3, 18.0)), Piece((y - 0.3, 18.0))]
        body = one(body, prism(side, 40.0, at((-20.0, 0.0, 0.0), EAST, (0.0, 1.0, 0.0))), "union")
    return less(body, [prism(Round((x, 0.0), 1.6), 30.0, at((0.0, 0.0, -5.0))) for x in (-15.0, 15.0)])


def hex_nut():
    """A nut whose corners cones cut at both ends, with a bore that is chamfered."""
    corners = [Piece((11.0 * np.cos(t), 11.0 * np.sin(t))) for t in np.arange(6) * np.pi / 3.0]
    body = prism(corners, 9.0, name="nut")
    cut = [(0.0, -1.0), (9.0, -1.0), (11.5, 1.0), (11.5, 8.0), (9.0, 10.0), (0.0, 10.0)]
    body = one(body, revolved([Piece(p) for p in cut], at((0.0, 0.0, 0.0))), "intersect")
    bore = [(0.0, -1.0), (6.5, -1.0), (5.0, 0.5), (5.0, 8.5), (6.5, 10.0), (0.0, 10.0)]
    return one(body, revolved([Piece(p) for p in bore], at((0.0, 0.0, 0.0))), "subtract")


def chain_link():
    """A link of round rod: two bends and two straight stretches, and its volume after Pappus."""
    parts = [prism(Round((0.0, 0.0), 2.0), 12.0, at((-12.0, y, 0.0), EAST, (0.0, 1.0, 0.0))) for y in (-8.0, 8.0)]
    for x, low, high in ((0.0, 0.0, 20.0), (-12.0, -32.0, -12.0)):
        ring = revolved([Piece((6.0, 0.0), (8.0, 0.0)), Piece((10.0, 0.0), (8.0, 0.0))], at((x, 0.0, 0.0)))
        half = prism(rectangle(low, -20.0, high, 20.0), 10.0, at((0.0, 0.0, -5.0)))
        parts.append(one(ring, half, "intersect"))
    first, second, right, left = parts
    body = one(one(one(right, first, "union"), second, "union"), left, "union")
    return body, np.pi * 4.0 * (2.0 * np.pi * 8.0 + 24.0)


def mug():
    """A cup with a ring for a handle, of which what is inside is cut away; and its faces by kind."""
    wall = [(0.0, 0.0), (10.0, 0.0), (10.0, 22.0), (9.0, 22.0), (9.0, 1.0), (0.0, 1.0)]
    cup = revolved([Piece(p) for p in wall], at((0.0, 0.0, 0.0)))
    ring = [Piece((4.8, 0.0), (6.0, 0.0)), Piece((7.2, 0.0), (6.0, 0.0))]
    handle = revolved(ring, at((10.0, 0.0, 11.0), (0.0, 1.0, 0.0)))
    handle = one(handle, prism(rectangle(-9.5, -20.0, 9.5, 20.0), 40.0, at((0.0, 0.0, -5.0))), "subtract")
    return one(cup, handle, "union"), {"plane": 3, "cylinder": 2, "torus": 1}


def bellows(waves):
    """A thin wall in waves about an axis, its volume by Pappus, and its faces by kind."""
    outer = [(4.0, 0.0), (5.0, 0.0)]
    inner = [(4.4, 3.0 * waves)]
    for k in range(waves):
        outer += [(7.0, 3.0 * k + 1.0), (7.0, 3.0 * k + 2.0), (5.0, 3.0 * k + 3.0)]
    for k in reversed(range(waves)):
        inner += [(6.4, 3.0 * k + 1.9), (6.4, 3.0 * k + 1.1), (4.4 if k else 4.0, 3.0 * k + (0.0 if k else 0.4))]
    ring = np.array(outer + inner)
    then = np.roll(ring, -1, axis=0)
    turns = ring[:, 0] * then[:, 1] - then[:, 0] * ring[:, 1]
    true = np.pi / 3.0 * float(((ring[:, 0] + then[:, 0]) * turns).sum())
    kinds = {"plane": 2, "cone": 4 * waves, "cylinder": 2 * waves + 1}
    return revolved([Piece(tuple(p)) for p in ring], at((0.0, 0.0, 0.0))), true, kinds


def ring_with_rods():
    """A ring with one rod through it outwards and one along its axis; and its faces by kind."""
    tube = [Piece((9.5, 0.0), (12.0, 0.0)), Piece((14.5, 0.0), (12.0, 0.0))]
    body = revolved(tube, at((0.0, 0.0, 0.0)))
    body = one(body, prism(Round((0.0, 0.0), 1.5), 15.0, at((5.0, 0.0, 0.0), EAST, (0.0, 1.0, 0.0))), "union")
    body = one(body, prism(Round((0.0, 12.0), 1.5), 12.0, at((0.0, 0.0, -6.0))), "union")
    return body, {"torus": 1, "cylinder": 4, "plane": 4}


def three_rods(radius):
    """What three rods at right angles have in common, and its volume."""
    ways = (EAST, (0.0, 1.0, 0.0), UP)
    long = 6.0 * radius
    rods = [prism(Round((0.0, 0.0), radius), long, at(-0.5 * long * np.array(w), w, ways[k - 1]))
            for k, w in enumerate(ways)]  # fmt: skip
    return one(one(rods[0], rods[1], "intersect"), rods[2], "intersect"), 8.0 * (2.0 - np.sqrt(2.0)) * radius**3
