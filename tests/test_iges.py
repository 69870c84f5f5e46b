"""IGES: solids and trimmed surfaces come in as sound solids of the right size, whatever the unit and the gaps."""

import numpy as np
import pytest
from dice import seeds
from iges import Writer
from solids import bracket, frame

from lithon.brep.measures import mass_properties, volume
from lithon.brep.topology import Model
from lithon.brep.validate import flaws
from lithon.errors import BadFile
from lithon.exchange.intake import parse_model
from lithon.exchange.stretch import Unread
from lithon.geometry.curves import Circle, Line
from lithon.geometry.frames import Frame
from lithon.geometry.rational import rational
from lithon.geometry.splines import BSplineCurve
from lithon.samples.build import Piece, Round, face_toward, prism, rectangle, revolved, sink
from lithon.survey.findings import findings


def bored_block(place=None):
    place = place or frame(np.random.default_rng(5))
    block = prism(rectangle(0, 0, 40, 30, 3.0), 20.0, place)
    top = Frame(place.origin + 20.0 * place.z, place.x, place.y, place.z)
    bored = sink(
        block, face_toward(block, place.z, top.origin), top, Round((20, 15), 6), 20.0, face_toward(block, -place.z)
    )
    return bored, (40 * 30 - (4 - np.pi) * 9 - np.pi * 36) * 20.0


def read(writer: Writer):
    arrival = parse_model(writer.text().encode(), "part.igs")
    return arrival.model, arrival.notes


@pytest.mark.parametrize("style", [186, 144, 143])
@pytest.mark.parametrize(("flag", "unit", "scale"), [(2, "MM", 1.0), (1, "INCH", 25.4), (6, "M", 1000.0)])
def test_a_block_with_rounded_corners_and_a_bore(style, flag, unit, scale):
    body, exact = bored_block()
    w = Writer(flag, unit, scale)
    w.solid(body) if style == 186 else w.trimmed(body, style)
    model, notes = read(w)
    (back,) = model.bodies
    assert not notes and not flaws(back, model.tolerance)
    assert volume(back) == pytest.approx(exact, rel=1e-9)
    assert (len(back.faces), len(back.edges()), len(back.vertices())) == (
        len(body.faces),
        len(body.edges()),
        len(body.vertices()),
    )
    a, b = mass_properties(body), mass_properties(back)
    assert np.allclose(a.centroid, b.centroid, atol=1e-7) and np.allclose(a.inertia, b.inertia, rtol=1e-7)


@pytest.mark.parametrize("seed", seeds(8))
def test_random_brackets_are_sewn(seed):
    known = bracket(seed)
    w = Writer(ahead="," if seed % 2 else "|")
    w.trimmed(known.body, 144 if seed % 3 else 143)
    model, _ = read(w)
    (back,) = model.bodies
    assert not flaws(back, model.tolerance)
    assert volume(back) == pytest.approx(known.volume, rel=1e-9)
    assert len(back.faces) == len(known.body.faces) and len(back.edges()) == len(known.body.edges())


def test_gaps_are_sewn_and_said_and_wider_ones_are_found():
    body, exact = bored_block()
    w = Writer(jitter=2e-4)
    w.trimmed(body)
    model, notes = read(w)
    (back,) = model.bodies
    assert any("sewn" in note for note in notes) and not flaws(back, model.tolerance)
    assert volume(back) == pytest.approx(exact, rel=1e-4)
    wide = Writer(jitter=0.05)
    wide.trimmed(body)
    model, notes = read(wide)
    assert any("do not close" in note for note in notes)
    assert any(f.severity == "stops" for f in findings(model, 4.0))


def test_cones_spheres_and_rings():
    place = frame(np.random.default_rng(8))
    frustum = revolved([Piece((0, 0)), Piece((6, 0)), Piece((3, 8)), Piece((0, 8))], place)
    for style in (186, 144):
        w = Writer()
        w.solid(frustum) if style == 186 else w.trimmed(frustum)
        (back,) = read(w)[0].bodies
        assert volume(back) == pytest.approx(np.pi * 8 / 3 * (36 + 18 + 9), rel=1e-9)
        assert len(back.faces) == 3 and all(e.ring for e in back.edges())
    dome = revolved([Piece((0, 0)), Piece((5, 0), (0, 0)), Piece((0, 5))], place)
    w = Writer()
    w.trimmed(dome)
    (back,) = read(w)[0].bodies
    assert volume(back) == pytest.approx(2 / 3 * np.pi * 125, rel=1e-9)


def _patch(corners, bulge=0.0):
    """A biquadratic patch over four corners as a bare type 128, its middle raised."""
    from lithon.geometry.splines import BSplineSurface

    p = np.array(corners, dtype=float)
    s = np.array([0.0, 0.5, 1.0])
    u, v = np.meshgrid(s, s, indexing="ij")
    net = ((1 - u) * (1 - v))[..., None] * p[0] + (u * (1 - v))[..., None] * p[1]
    net = net + (u * v)[..., None] * p[2] + ((1 - u) * v)[..., None] * p[3]
    net[1, 1, 2] += bulge
    k = np.array([0.0, 0.0, 0.0, 1.0, 1.0, 1.0])
    return BSplineSurface(k, k, 2, 2, net)


def test_bare_spline_patches_close_to_a_solid():
    """Six patches without any boundary written, one of them bulged: the net's middle weighs a quarter times 4/9."""
    c = np.array([[x, y, z] for z in (0, 10) for y in (0, 10) for x in (0, 10)], dtype=float)
    w = Writer()
    for quad, bulge in (((0, 1, 3, 2), 0), ((4, 5, 7, 6), 6.0), ((0, 1, 5, 4), 0), ((2, 3, 7, 6), 0), ((0, 2, 6, 4), 0),
                        ((1, 3, 7, 5), 0)):  # fmt: skip
        w.surface(_patch(c[list(quad)], bulge))
    model, _ = read(w)
    (back,) = model.bodies
    assert not flaws(back, model.tolerance)
    # The integral of each quadratic Bernstein polynomial is 1/3: the bulge adds 6 x (10/3)^2.
    assert volume(back) == pytest.approx(1000 + 6.0 * (10 / 3) ** 2, rel=1e-8)


def test_a_boundary_in_parameters_alone():
    """A disc cut from a flat spline patch by a circle in its parameters; and one natural outline around a hole."""
    patch = _patch([[0, 0, 0], [10, 0, 0], [10, 10, 0], [0, 10, 0]])
    w = Writer()
    s = w.surface(patch)
    ring = Circle.about(Frame.of((0.5, 0.5, 0.0), (0, 0, 1), (1, 0, 0)), 0.2)
    flat = w.curve(ring, 0.0, 2 * np.pi)
    w.add(144, [s, 1, 0, w.add(142, [0, s, flat, 0, 1])])
    model, notes = read(w)
    (face,) = model.bodies[0].faces
    from lithon.brep.measures import face_area

    assert face_area(face) == pytest.approx(np.pi * 4, rel=1e-6) and any("do not close" in n for n in notes)
    w = Writer()
    s = w.surface(patch)
    flat = w.curve(ring, 0.0, 2 * np.pi)
    w.add(144, [s, 0, 1, 0, w.add(142, [0, s, flat, 0, 1])])
    (face,) = read(w)[0].bodies[0].faces
    assert face_area(face) == pytest.approx(100 - np.pi * 4, rel=1e-6)


def test_what_cannot_be_read_is_named_and_the_rest_arrives():
    body, _ = bored_block()
    w = Writer()
    w.trimmed(body)
    w.add(144, [w.add(125, [3, 1, 3, 1]), 1, 0, w.add(142, [0, 1, 0, 1, 2])])
    model, notes = read(w)
    assert len(model.bodies) == 1 and any("type 125" in n for n in notes)


def test_conics_that_are_no_ellipses():
    """Every point of the arc is on the conic, whichever way it lies."""
    from lithon.exchange.iges_polynomial import conic_arc

    parabola = np.array([[1.0, 0, 0], [0, 0, -2.0], [0, -2.0, 0]])  # x^2 = 4 y
    hyperbola = np.diag([1 / 9, -1 / 4, -1.0])  # x = 3 cosh t, y = 2 sinh t
    branch = np.array([[3 * np.cosh(t), 2 * np.sinh(t)] for t in (-0.7, 1.3)])
    for form, ends in ((parabola, np.array([[-2.0, 1.0], [4.0, 4.0]])), (hyperbola, branch)):
        p = conic_arc(form, ends).point(np.linspace(0, 1, 40))
        flat = np.column_stack([p[:, :2], np.ones(40)])
        assert np.abs(np.einsum("ni,ij,nj->n", flat, form, flat)).max() < 1e-12
        assert p[0, :2] == pytest.approx(ends[0]) and p[-1, :2] == pytest.approx(ends[1])
    with pytest.raises(BadFile, match="two branches"):
        conic_arc(hyperbola, branch * [[1, 1], [-1, 1]])
    w = Writer()
    number = w.add(104, [0.0, 0.0, 1.0, -4.0, 0.0, 0.0, 5.0, 1.0, -2.0, 4.0, 4.0], 3)  # y^2 = 4 x
    (arc,) = geometry_of(w).curve(number)
    p = arc.points(20)
    assert np.abs(p[:, 1] ** 2 - 4 * p[:, 0]).max() < 1e-12 and np.ptp(p[:, 2]) < 1e-12
    assert p[0] == pytest.approx([1, -2, 5]) and p[-1] == pytest.approx([4, 4, 5])


def geometry_of(w: Writer):
    from lithon.exchange.iges_geometry import IgesGeometry
    from lithon.exchange.iges_records import read_records

    return IgesGeometry(read_records(w.text()))


def test_curves_and_surfaces_by_their_polynomials():
    """Against the polynomials themselves, with breaks that are not even."""
    rng = np.random.default_rng(5)
    breaks, v = np.array([0.0, 0.5, 2.0, 2.7]), np.array([1.0, 1.4, 3.0])
    x = np.poly1d([0.3, -1.0, 2.0, 1.0])  # one cubic in pieces is the same curve
    y, z = np.poly1d([-0.2, 0.1, 1.0, 0.0]), np.poly1d([1.0, 0.0, 0.0, 4.0])
    pieces = [[p.deriv(k)(t) / [1, 1, 2, 6][k] for p in (x, y, z) for k in range(4)] for t in breaks[:-1]]
    w = Writer()
    n = w.add(112, [3, 2, 3, 3, *breaks.tolist(), *np.ravel(pieces).tolist(), *[0.0] * 12])
    (part,) = geometry_of(w).curve(n)
    t = np.linspace(0, 2.7, 50)
    assert part.curve.point(t) == pytest.approx(np.column_stack([x(t), y(t), z(t)]), abs=1e-12)
    c = rng.normal(size=(3, 4, 4))  # one bicubic: coefficient of u^s v^t

    def shifted(k, u0, v0):
        """Coefficients of the same polynomial about (u0, v0), v's powers first."""
        out = np.zeros((4, 4))
        from math import comb

        for s in range(4):
            for q in range(4):
                for i in range(s + 1):
                    for j in range(q + 1):
                        out[j, i] += c[k, s, q] * comb(s, i) * comb(q, j) * u0 ** (s - i) * v0 ** (q - j)
        return out

    for spare in (False, True):
        values = []
        for u0 in (*breaks[:-1], *([9.0] if spare else [])):
            for v0 in (*v[:-1], *([9.0] if spare else [])):
                values += [a for k in range(3) for a in shifted(k, u0, v0).ravel()]
        w = Writer()
        n = w.add(114, [3, 1, 3, 2, *breaks.tolist(), *v.tolist(), *(float(a) for a in values)])
        surface = geometry_of(w).surface(n)
        at = np.column_stack([rng.uniform(0, 2.7, 40), rng.uniform(1, 3, 40)])
        true = [[np.polynomial.polynomial.polyval2d(a, b, c[k]) for k in range(3)] for a, b in at]
        assert surface.at(at[:, 0], at[:, 1])[0] == pytest.approx(np.array(true), rel=1e-9, abs=1e-9)


def on(surface, points, within=1e-9):
    return np.abs(surface.signed_distance(np.asarray(points))).max() < within


def test_ruled_surfaces_between_unlike_curves():
    """Every straight line between points of equal parameter lies on the surface that is read."""
    rng = np.random.default_rng(2)
    place = frame(rng)
    at = [Frame.of(place.origin + h * place.z, place.z, place.x) for h in (0.0, 12.0)]
    low, high = Circle.about(at[0], 5.0), Circle.about(at[1], 8.0)
    spline = BSplineCurve(
        np.array([0, 0, 0, 0, 0.3, 0.7, 1, 1, 1, 1.0]),
        3,
        at[1].world(rng.uniform(-1, 1, (6, 3)) + np.c_[:6, [9] * 6, [0] * 6]),
    )
    straight = Line.through(at[1].world(np.array([[9.0, 1, 0]]))[0], at[1].world(np.array([[-3.0, 9, 2]]))[0])
    cases = [
        (low, (0.2, 1.5), high, (0.2, 1.5), "cone"),
        (low, (0.2, 1.5), Circle.about(at[1], 5.0), (0.2, 1.5), "cylinder"),
        (low, (0.2, 1.5), Circle.about(at[0], 9.0), (0.2, 1.5), "plane"),
        (low, (0.2, 1.5), high, (0.4, 1.9), "b-spline"),
        (low, (0.0, 1.2), straight, (0.0, straight.parameter(at[1].world(np.array([[-3.0, 9, 2]])))[0]), "b-spline"),
        (low, (0.0, 3.0), spline, (0.0, 1.0), "b-spline"),
        (straight, (0.0, 4.0), spline, (0.0, 1.0), "b-spline"),
    ]
    for one, (a0, a1), two, (b0, b1), kind in cases:
        w = Writer()
        n = w.add(118, [w.curve(one, a0, a1), w.curve(two, b0, b1), 0, 0], 1)
        surface = geometry_of(w).surface(n)
        assert surface.kind == kind
        a, b = rational(one, a0, a1), rational(two, b0, b1)
        t = np.linspace(0.0, 1.0, 23)
        for share in (0.0, 0.25, 0.8, 1.0):
            assert on(surface, (1.0 - share) * a.point(t) + share * b.point(t), 1e-7), kind
        if kind == "b-spline":
            w = Writer()  # the second rail from its other end
            n = w.add(118, [w.curve(one, a0, a1), w.curve(two, b0, b1), 1, 0], 1)
            assert on(geometry_of(w).surface(n), 0.3 * a.point(t) + 0.7 * b.point(1.0 - t), 1e-7)


def test_a_profile_of_several_curves_that_run_on_smoothly():
    """A line, an arc and a line in one extrusion and one revolution; with a corner it is refused by name."""
    place = frame(np.random.default_rng(3))

    def world(x, y):
        return place.world(np.array([[x, y, 0.0]]))[0]

    arc = Circle.about(Frame.of(world(10.0, 5.0), place.z, place.x), 5.0)
    first, last = Line.through(world(0.0, 0.0), world(10.0, 0.0)), Line.through(world(15.0, 5.0), world(15.0, 12.0))
    row = [(first, 0.0, 10.0), (arc, -0.5 * np.pi, 0.0), (last, 0.0, 7.0)]
    points = np.vstack([c.point(np.linspace(a, b, 15)) for c, a, b in row])

    def profile(w, parts):
        return w.add(102, [len(parts), *(w.curve(*part) for part in parts)])

    w = Writer()
    up = world(0.0, 0.0) + 6.0 * place.z
    n = w.add(122, [profile(w, row), *w.lengths(up)])
    surface = geometry_of(w).surface(n)
    assert surface.kind == "extrusion"
    for height in (0.0, 2.5, 6.0):
        assert on(surface, points + height * place.z)
    w = Writer()
    axis = w.curve(Line.through(world(-5.0, 0.0), world(-5.0, 1.0)), 0.0, 1.0)
    n = w.add(120, [axis, profile(w, row), 0.0, 2.0 * np.pi])
    surface = geometry_of(w).surface(n)
    about = place.y
    for angle in (0.0, 1.0, 4.0):
        p = points - world(-5.0, 0.0)
        along = np.multiply.outer(p @ about, about)
        turned = along + np.cos(angle) * (p - along) + np.sin(angle) * np.cross(about, p)
        assert on(surface, turned + world(-5.0, 0.0), 1e-8)
    w = Writer()  # two halves of one circle are a cylinder
    n = w.add(122, [profile(w, [(arc, 0.0, np.pi), (arc, np.pi, 2.0 * np.pi)]), *w.lengths(arc.point(0.0) + place.z)])
    assert geometry_of(w).surface(n).kind == "cylinder"
    w = Writer()
    n = w.add(122, [profile(w, [row[0], (Line.through(world(10, 0), world(10, 9)), 0.0, 9.0)]), *w.lengths(up)])
    with pytest.raises(Unread, match="corner"):
        geometry_of(w).surface(n)


def test_definitions_stand_where_their_instances_are():
    """A block twice in a frame that is there twice: four blocks, with names and paths; another by itself."""
    body, _ = bored_block()
    w = Writer()
    solid = w.solid(body)
    block = w.add(308, [0, "5Hblock", 1, solid], status=20000)
    inner = [w.add(408, [block, float(x), 0.0, 0.0, 1.0], status=10000) for x in (0, 100)]
    frame = w.add(308, [1, "5Hframe", 2, *inner], status=20000)
    quarter = w.add(124, [0.0, -1.0, 0.0, 0.0, 1.0, 0.0, 0.0, 0.0, 0.0, 0.0, 1.0, 0.0])
    w.add(408, [frame, 0.0, 0.0, 0.0])
    w.add(408, [frame, 0.0, 0.0, 500.0, 1.0], matrix=quarter)
    w.add(408, [block, 0.0, 0.0, 0.0, 2.0])
    model, notes = read(w)
    assert any("scaled by 2" in n for n in notes) and len(model.bodies) == 4
    assert {b.path[0] for b in model.bodies} == {"frame"} and {b.name for b in model.bodies} == {
        f"block {k}" for k in range(1, 5)
    }
    from lithon.brep.measures import mass_properties

    mass = mass_properties(body)
    c = mass.centroid
    expected = [c, c + [100, 0, 0], [-c[1], c[0], c[2] + 500], [-c[1], c[0] + 100, c[2] + 500]]
    found = [mass_properties(b) for b in model.bodies]
    assert sorted(np.round([m.centroid for m in found], 6).tolist()) == sorted(np.round(expected, 6).tolist())
    assert [m.volume for m in found] == pytest.approx([mass.volume] * 4)


def test_a_solid_has_the_name_of_its_property():
    body, _ = bored_block()
    w = Writer()
    solid = w.solid(body)
    name = w.add(406, [1, "9Hguide pin"], 15)
    kind, form, matrix, status, values = w.entities[(solid - 1) // 2]
    w.entities[(solid - 1) // 2] = (kind, form, matrix, status, [*values, 0, 1, name])
    model, _ = read(w)
    assert [b.name for b in model.bodies] == ["guide pin"]


def test_no_mutation_gets_past_the_reader():
    """Truncated, doubled, swapped and overwritten files: a model, or one clear BadFile."""
    body, _ = bored_block(Frame.of((0, 0, 0), (0, 0, 1), (1, 0, 0)))
    texts = []
    for style in (186, 144):
        w = Writer()
        w.solid(body) if style == 186 else w.trimmed(body)
        texts.append(w.text())
    rng = np.random.default_rng(4)
    read_whole = 0
    for n in range(120):
        lines = texts[n % 2].splitlines()
        for _ in range(int(rng.integers(1, 5))):
            k = int(rng.integers(len(lines)))
            what = rng.integers(6)
            if what == 0:
                lines = lines[:k]
            elif what == 1:
                lines[k] = lines[int(rng.integers(len(lines)))]
            elif what == 2:
                lines.pop(k)
            elif what == 3:
                j = int(rng.integers(72))
                lines[k] = lines[k][:j] + rng.choice(list("0123456789,;HD.-E #")) + lines[k][j + 1 :]
            elif what == 4:
                lines[k] = lines[k].replace(",", ",,", 1)
            else:
                lines[k] = lines[k].replace("1", "9", 1)
            if not lines:
                break
        try:
            arrival = parse_model("\n".join(lines).encode(), "part.igs")
            read_whole += 1
            assert isinstance(arrival.model, Model) and arrival.model.bodies
        except BadFile as error:
            assert error.what and "\n" not in error.what
    assert read_whole > 20
