"""A writer of IGES files for tests, made from the standard alone: solids as type 186, or every face by itself as a
trimmed surface (144 or 143) with curves of its own, as files that must be sewn have them."""

from __future__ import annotations

import numpy as np

from lithon.brep.topology import Body, Face
from lithon.geometry.curves import Circle, Line
from lithon.geometry.rounds import Cone, Sphere
from lithon.geometry.splines import BSplineCurve, BSplineSurface
from lithon.geometry.surfaces import Cylinder, Plane


class Writer:
    """Entities gathered; `unit` is the flag and name of the global section, `scale` mm in it."""

    def __init__(self, flag: int = 2, name: str = "MM", scale: float = 1.0, jitter: float = 0.0, ahead: str = ","):
        self.entities: list[tuple[int, int, int, int, list]] = []
        self.flag, self.name, self.scale, self.ahead = flag, name, scale, ahead
        self.rng, self.jitter = np.random.default_rng(3), jitter

    def add(self, kind: int, values: list, form: int = 0, matrix: int = 0, status: int = 0) -> int:
        self.entities.append((kind, form, matrix, status, values))
        return 2 * len(self.entities) - 1

    def text(self) -> str:
        a, out = self.ahead, ["made by a test".ljust(72) + "S      1"]
        head = [f"1H{a}", "1H;", "4Hpart", "8Hpart.igs", "4Htest", "4Htest", "32", "38", "6", "308", "15", "4Hpart",
                "1.0", str(self.flag), f"{len(self.name)}H{self.name}", "1", "0.01", "15H20261123.000000", "1.0E-6",
                "1000.0", "4Hnone", "4Hnone", "11", "0"]  # fmt: skip
        text = a.join(head) + ";"
        lines = [text[k : k + 72].ljust(72) for k in range(0, len(text), 72)]
        out += [f"{line}G{k + 1:7d}" for k, line in enumerate(lines)]
        directory, parameters = [], []
        for n, (kind, form, matrix, status, values) in enumerate(self.entities):
            words = a.join([str(kind), *(self._word(v) for v in values)]) + ";"
            rows = self._rows(words, a)
            first = len(parameters) + 1
            parameters += [f"{row.ljust(64)}{2 * n + 1:8d}P{first + k:7d}" for k, row in enumerate(rows)]
            one = [kind, first, 0, 0, 0, 0, matrix, 0]
            two = [kind, 0, 3, len(rows), form, "", "", "part", 0]
            directory.append("".join(str(w).rjust(8) for w in one) + f"{status:08d}" + f"D{2 * n + 1:7d}")
            directory.append("".join(str(w).rjust(8) for w in two) + f"D{2 * n + 2:7d}")
        out += directory + parameters
        out.append(f"S{1:7d}G{len(lines):7d}D{len(directory):7d}P{len(parameters):7d}".ljust(72) + "T      1")
        return "\n".join(out) + "\n"

    def _word(self, value) -> str:
        return (
            str(value)
            if isinstance(value, int | str)
            else f"{value:.15G}".replace("E", "D") + ("" if any(c in f"{value:.15G}" for c in ".E") else ".")
        )

    def _rows(self, words: str, ahead: str) -> list[str]:
        rows, row = [], ""
        for word in words.replace(ahead, ahead + "\n").split("\n"):
            if len(row) + len(word) > 64:
                rows.append(row)
                row = ""
            row += word
        return [*rows, row]

    # ---- geometry

    def lengths(self, *points) -> list[float]:
        return [float(x) / self.scale for p in points for x in np.ravel(p)]

    def point(self, p) -> int:
        return self.add(116, [*self.lengths(p), 0], status=10000)

    def direction(self, d) -> int:
        return self.add(123, [float(x) for x in d], status=10000)

    def surface(self, s) -> int:
        if isinstance(s, Plane):
            return self.add(190, [self.point(s.frame.origin), self.direction(s.frame.z), self.direction(s.frame.x)], 1)
        if isinstance(s, Cylinder):
            places = [self.point(s.frame.origin), self.direction(s.frame.z)]
            return self.add(192, [*places, s.radius / self.scale, self.direction(s.frame.x)], 1)
        if isinstance(s, Cone):
            places = [self.point(s.frame.origin), self.direction(s.frame.z)]
            values = [s.radius / self.scale, float(np.degrees(s.angle)), self.direction(s.frame.x)]
            return self.add(194, [*places, *values], 1)
        if isinstance(s, Sphere):
            return self.add(196, [self.point(s.frame.origin), s.radius / self.scale])
        assert isinstance(s, BSplineSurface)
        nu, nv = s.control.shape[:2]
        w = np.ones((nu, nv)) if s.weights is None else s.weights
        (u0, v0), (u1, v1) = s.range
        values = [nu - 1, nv - 1, s.degree_u, s.degree_v, 0, 0, 0 if s.weights is not None else 1, 0, 0]
        values += [float(x) for x in (*s.knots_u, *s.knots_v, *w.T.ravel())]
        values += self.lengths(s.control.transpose(1, 0, 2)) + [float(u0), float(u1), float(v0), float(v1)]
        return self.add(128, values)

    def curve(self, c, t0: float, t1: float, forward: bool = True) -> int:
        """A curve from t0 to t1, or back; arcs run one way only, so that one walked back lies on a turned frame."""
        noise = self.rng.normal(size=(2, 3)) * self.jitter
        if isinstance(c, Line):
            a, b = c.point(np.array([t0, t1])) + noise
            return self.add(110, self.lengths(*((a, b) if forward else (b, a))))
        if isinstance(c, Circle):
            f, z = c.frame, c.frame.z
            x, y = f.x, f.y
            if not forward:
                y, z, t0, t1 = -y, -z, -t1, -t0
            m = np.stack([x, y, z], axis=1)
            place = self.add(124, [float(v) for k in range(3) for v in (*m[k], f.origin[k] / self.scale)])
            r = c.radius
            ends = [(r * np.cos(t), r * np.sin(t)) for t in (t0, t1)]
            return self.add(100, self.lengths(0.0, (0.0, 0.0), *ends), matrix=place)
        assert isinstance(c, BSplineCurve) and forward
        w = np.ones(len(c.control)) if c.weights is None else c.weights
        values = [len(c.control) - 1, c.degree, 0, 0, 0 if c.weights is not None else 1, 0]
        values += [float(x) for x in (*c.knots, *w)] + self.lengths(c.control) + [float(t0), float(t1), 0.0, 0.0, 1.0]
        return self.add(126, values)

    # ---- bodies

    def loop(self, loop) -> int:
        ids = [self.curve(c.edge.curve, c.edge.t0, c.edge.t1, c.forward) for c in loop]
        return ids[0] if len(ids) == 1 else self.add(102, [len(ids), *ids])

    def walks(self, face: Face) -> list[list[tuple]]:
        """The loops as (curve, t0, t1, forward); a band is cut open along a straight seam, as the standard wants it."""
        loops = [[(c.edge.curve, c.edge.t0, c.edge.t1, c.forward) for c in loop] for loop in face.loops]
        if face.surface.kind in ("cylinder", "cone") and len(loops) == 2 and all(len(x) == 1 for x in loops):
            (one,), (two,) = loops
            a, b = (x[0].point(np.array([x[1]]))[0] for x in (one, two))
            seam = Line.through(a, b)
            length = float(np.linalg.norm(b - a))
            return [[one, (seam, 0.0, length, True), two, (seam, 0.0, length, False)]]
        return loops

    def trimmed(self, body: Body, kind: int = 144) -> None:
        """Every face by itself."""
        for use in body.uses:
            surface = self.surface(use.face.surface)
            bounds = []
            for walk in self.walks(use.face):
                ids = [self.curve(*part) for part in walk]
                if kind == 144:
                    whole = ids[0] if len(ids) == 1 else self.add(102, [len(ids), *ids])
                    bounds.append(self.add(142, [0, surface, 0, whole, 2]))
                else:
                    bounds.append(self.add(141, [0, 0, surface, len(ids), *(v for i in ids for v in (i, 1, 0))]))
            if kind == 144:
                self.add(144, [surface, 1, len(bounds) - 1, bounds[0], *bounds[1:]])
            else:
                self.add(143, [0, surface, len(bounds), *bounds])

    def solid(self, body: Body) -> int:
        """As type 186, edges and vertices in lists."""
        corners: dict[tuple, int] = {}

        def corner(p) -> int:
            return corners.setdefault(tuple(np.round(p, 9)), len(corners) + 1)

        rows: dict[tuple, int] = {}
        listed: list[tuple[int, int, int]] = []
        loops_of = []
        for use in body.uses:
            loops = []
            for walk in self.walks(use.face):
                uses = []
                for curve, t0, t1, forward in walk:
                    ends = tuple(np.round(curve.point(np.array([t0, t1])), 6).ravel())
                    key = (ends if isinstance(curve, Line) else id(curve), round(t0, 9), round(t1, 9))
                    if key not in rows:
                        ends = curve.point(np.array([t0, t1]))
                        listed.append((self.curve(curve, t0, t1), corner(ends[0]), corner(ends[1])))
                        rows[key] = len(listed)
                    uses.append((rows[key], forward))
                loops.append(uses)
            loops_of.append((self.surface(use.face.surface), loops, use))
        points = np.array(list(corners))
        vertices = self.add(502, [len(points), *self.lengths(points)], 1)
        values = [v for curve, a, b in listed for v in (curve, vertices, a, vertices, b)]
        edges = self.add(504, [len(listed), *values], 1)
        faces = []
        for surface, loops, use in loops_of:
            ids = []
            for uses in loops:
                ids.append(self.add(508, [len(uses), *(v for n, f in uses for v in (0, edges, n, int(f), 0))], 1))
            faces += [self.add(510, [surface, len(ids), 1, *ids], 1), int(use.face.along == use.forward)]
        shell = self.add(514, [len(faces) // 2, *faces], 1)
        return self.add(186, [shell, 1, 0])
