"""Points, derivatives and closest points of rational B-splines, compiled.

Basis functions after Piegl & Tiller, The NURBS Book, algorithms A2.1 to A2.3; closest points by Newton
(their section 6.1), halved where a step would lead away. Control points are homogeneous, (..., 4).
"""

from __future__ import annotations

import numpy as np
from numba import njit

from lithon.arrays import Floats

#: Rows of what the functions of one place are written to: values, two derivatives, and room to work in.
ROWS = 7


@njit(cache=True)
def basis(knots: Floats, degree: int, t: float, out: Floats) -> int:
    """Fill out (7, degree+1) with the functions that do not vanish at t and their first two derivatives, in its first
    three rows; gives the first control point that they belong to."""
    last = len(knots) - degree - 2
    low, high = degree, last + 1
    while high - low > 1:
        middle = (low + high) // 2
        if knots[middle] <= t:
            low = middle
        else:
            high = middle
    while low > degree and knots[low + 1] <= knots[low]:
        low -= 1  # at the upper end of a curve whose last knots fall together
    span = low
    out[3:, :] = 0.0  # rows 3, 4, 5: values of degree p, p-1 and p-2 as the degree rises
    out[3, 0] = 1.0
    for p in range(1, degree + 1):
        for i in range(p):
            out[5, i] = out[4, i]
        for i in range(p):
            out[4, i] = out[3, i]
        out[3, 0] = 0.0
        for i in range(p):
            left, right = knots[span - p + 1 + i], knots[span + 1 + i]
            width = right - left
            share = out[4, i] / width if width > 0.0 else 0.0
            out[3, i] += (right - t) * share
            out[3, i + 1] = (t - left) * share
    for i in range(degree + 1):
        out[0, i] = out[3, i]
        out[1, i] = 0.0
        out[2, i] = 0.0
    for i in range(degree):
        width = knots[span + 1 + i] - knots[span - degree + 1 + i]
        if width > 0.0:
            share = degree * out[4, i] / width
            out[1, i] -= share
            out[1, i + 1] += share
    if degree > 1:
        for i in range(degree - 1):
            width = knots[span + 1 + i] - knots[span - degree + 2 + i]
            if width > 0.0:
                share = (degree - 1) * out[5, i] / width
                out[6, i] -= share
                out[6, i + 1] += share
        for i in range(degree):
            width = knots[span + 1 + i] - knots[span - degree + 1 + i]
            if width > 0.0:
                share = degree * out[6, i] / width
                out[2, i] -= share
                out[2, i + 1] += share
    return span - degree


@njit(cache=True)
def _curve_at(knots: Floats, degree: int, net: Floats, t: float, work: Floats, out: Floats) -> None:
    """Fill out (3,3) with point, first and second derivative."""
    first = basis(knots, degree, t, work)
    h = np.zeros((3, 4))
    for k in range(3):
        for i in range(degree + 1):
            for c in range(4):
                h[k, c] += work[k, i] * net[first + i, c]
    w = h[0, 3]
    for c in range(3):
        out[0, c] = h[0, c] / w
        out[1, c] = (h[1, c] - h[1, 3] * out[0, c]) / w
        out[2, c] = (h[2, c] - 2.0 * h[1, 3] * out[1, c] - h[2, 3] * out[0, c]) / w


@njit(cache=True)
def curve_values(knots: Floats, degree: int, net: Floats, t: Floats) -> Floats:
    """Points, first and second derivatives (3,n,3) at parameters (n,); net (k,4)."""
    out = np.empty((3, len(t), 3))
    work, one = np.empty((ROWS, degree + 1)), np.empty((3, 3))
    for n in range(len(t)):
        _curve_at(knots, degree, net, t[n], work, one)
        out[:, n, :] = one
    return out


@njit(cache=True)
def _descend(
    knots: Floats, degree: int, net: Floats, point: Floats, t: float, low: float, high: float, work: Floats, one: Floats
) -> tuple[float, float]:
    """Newton downhill from t within low..high: where it ends and the squared distance there."""
    _curve_at(knots, degree, net, t, work, one)
    miss = 0.0
    for c in range(3):
        miss += (one[0, c] - point[c]) ** 2
    for _ in range(24):
        f, speed, turn = 0.0, 0.0, 0.0
        for c in range(3):
            away = one[0, c] - point[c]
            f += away * one[1, c]
            speed += one[1, c] ** 2
            turn += away * one[2, c]
        g = speed + turn if speed + turn > 1e-9 * speed else speed + 1e-300
        step = min(max(t - f / g, low), high) - t
        if abs(step) <= 1e-15 * (abs(t) + 1.0):
            break
        better = False
        for _half in range(10):
            _curve_at(knots, degree, net, t + step, work, one)
            now = 0.0
            for c in range(3):
                now += (one[0, c] - point[c]) ** 2
            if now <= miss * (1.0 + 1e-12) + 1e-30:
                better = True
                break
            step *= 0.4
        if not better:
            break
        t, miss = t + step, now
    return t, miss


@njit(cache=True)
def curve_closest(knots: Floats, degree: int, net: Floats, samples: Floats, places: Floats, points: Floats) -> Floats:
    """Parameters (n,) of the closest points to (n,3), by samples (k,3) at (k,), which include all knots: from each
    chord between samples that may, by its distance and length, stand before the nearest stretch of the curve."""
    out = np.empty(len(points))
    work, one = np.empty((ROWS, degree + 1)), np.empty((3, 3))
    chords = len(places) - 1
    gap, share, length = np.empty(chords), np.empty(chords), np.empty(chords)
    for n in range(len(points)):
        nearest = np.inf
        for k in range(chords):
            along, square = 0.0, 0.0
            for c in range(3):
                step = samples[k + 1, c] - samples[k, c]
                along += step * (points[n, c] - samples[k, c])
                square += step * step
            share[k] = min(max(along / square, 0.0), 1.0) if square > 0.0 else 0.0
            length[k] = np.sqrt(square)
            d = 0.0
            for c in range(3):
                d += (samples[k, c] + share[k] * (samples[k + 1, c] - samples[k, c]) - points[n, c]) ** 2
            gap[k] = np.sqrt(d)
            nearest = min(nearest, gap[k] + 0.3 * length[k])
        best, where = np.inf, 0.0
        for k in range(chords):
            if gap[k] - 0.3 * length[k] > nearest:
                continue
            low, high = places[k], places[k + 1]
            at, miss = _descend(knots, degree, net, points[n], low + share[k] * (high - low), low, high, work, one)
            if miss < best:
                best, where = miss, at
        out[n] = where
    return out


@njit(cache=True)
def surface_at(
    ku: Floats, kv: Floats, du: int, dv: int, net: Floats, u: float, v: float, fu: Floats, fv: Floats, out: Floats
) -> None:
    """Fill out (6,7) with point, du, dv, duu, duv, dvv in its first three columns; the others are room for sums."""
    iu = basis(ku, du, u, fu)
    iv = basis(kv, dv, v, fv)
    h = out[:, 3:]
    h[:, :] = 0.0
    for i in range(du + 1):
        for c in range(4):
            row, slope, bend = 0.0, 0.0, 0.0  # along v first: six sums for each row, not for each point
            for j in range(dv + 1):
                x = net[iu + i, iv + j, c]
                row += fv[0, j] * x
                slope += fv[1, j] * x
                bend += fv[2, j] * x
            h[0, c] += fu[0, i] * row
            h[1, c] += fu[1, i] * row
            h[2, c] += fu[0, i] * slope
            h[3, c] += fu[2, i] * row
            h[4, c] += fu[1, i] * slope
            h[5, c] += fu[0, i] * bend
    w = h[0, 3]
    for c in range(3):
        p = h[0, c] / w
        a, b = (h[1, c] - h[1, 3] * p) / w, (h[2, c] - h[2, 3] * p) / w
        out[0, c], out[1, c], out[2, c] = p, a, b
        out[3, c] = (h[3, c] - 2.0 * h[1, 3] * a - h[3, 3] * p) / w
        out[4, c] = (h[4, c] - h[1, 3] * b - h[2, 3] * a - h[4, 3] * p) / w
        out[5, c] = (h[5, c] - 2.0 * h[2, 3] * b - h[5, 3] * p) / w


@njit(cache=True)
def surface_values(ku: Floats, kv: Floats, du: int, dv: int, net: Floats, u: Floats, v: Floats) -> Floats:
    """Point, du, dv, duu, duv, dvv as (6,n,3) at parameters (n,); net (nu,nv,4)."""
    out = np.empty((6, len(u), 3))
    fu, fv, one = np.empty((ROWS, du + 1)), np.empty((ROWS, dv + 1)), np.empty((6, 7))
    for n in range(len(u)):
        surface_at(ku, kv, du, dv, net, u[n], v[n], fu, fv, one)
        out[:, n, :] = one[:, :3]
    return out


@njit(cache=True)
def _sums(
    ku: Floats, kv: Floats, du: int, dv: int, net: Floats, u: float, v: float, fu: Floats, fv: Floats, out: Floats
) -> None:
    """Fill out (3,m) with the sums of a net (nu,nv,m) by the functions at u and v, and by their first derivatives along
    each: point, du, dv where it is not rational."""
    iu = basis(ku, du, u, fu)
    iv = basis(kv, dv, v, fv)
    out[:, :] = 0.0
    for i in range(du + 1):
        for c in range(net.shape[2]):
            row, slope = 0.0, 0.0
            for j in range(dv + 1):
                x = net[iu + i, iv + j, c]
                row += fv[0, j] * x
                slope += fv[1, j] * x
            out[0, c] += fu[0, i] * row
            out[1, c] += fu[1, i] * row
            out[2, c] += fu[0, i] * slope


@njit(cache=True)
def surface_frames(ku: Floats, kv: Floats, du: int, dv: int, net: Floats, u: Floats, v: Floats) -> Floats:
    """Point, du, dv as (3,n,3) at parameters (n,), for those who need no second derivatives; net (nu,nv,4)."""
    out = np.empty((3, len(u), 3))
    fu, fv, h = np.empty((ROWS, du + 1)), np.empty((ROWS, dv + 1)), np.empty((3, 4))
    for n in range(len(u)):
        _sums(ku, kv, du, dv, net, u[n], v[n], fu, fv, h)
        w = h[0, 3]
        for c in range(3):
            p = h[0, c] / w
            out[0, n, c] = p
            out[1, n, c] = (h[1, c] - h[1, 3] * p) / w
            out[2, n, c] = (h[2, c] - h[2, 3] * p) / w
    return out


@njit(cache=True, nogil=True)
def swept_integrals(
    ko: Floats, kw: Floats, do: int, dw: int, net: Floats, outer: Floats, start: float, end: Floats, weight: Floats,
    breaks: Floats, nodes: Floats, shares: Floats,
) -> Floats:  # fmt: skip
    """The weighted sum (14,) of the integrals of `brep.measures._integrands` over a net (no,nw,4), along its second
    parameter from a start to several ends (n,), at each one's first parameter (n,): normals run as d first x d second.
    From break to break by a rule of nodes between -1 and 1. At one first parameter the surface is a curve: the sums
    over the rows of the net are made once for it."""
    out, x, n = np.zeros(14), np.empty(3), np.empty(3)
    fo, fw = np.empty((ROWS, do + 1)), np.empty((ROWS, dw + 1))
    row, slope = np.empty((net.shape[1], 4)), np.empty((net.shape[1], 4))
    h = np.empty((3, 4))
    low, high = kw[dw], kw[len(kw) - dw - 1]
    for k in range(len(outer)):
        first = basis(ko, do, min(max(outer[k], ko[do]), ko[len(ko) - do - 1]), fo)
        row[:, :] = 0.0
        slope[:, :] = 0.0
        for i in range(do + 1):
            for j in range(net.shape[1]):
                for c in range(4):
                    row[j, c] += fo[0, i] * net[first + i, j, c]
                    slope[j, c] += fo[1, i] * net[first + i, j, c]
        goal = min(max(end[k], low), high)
        a, b = min(start, goal), max(start, goal)
        sense = 1.0 if goal >= start else -1.0
        inside = 0
        for t in breaks:
            inside += a < t < b
        at, left = 0, a
        while left < b:
            right = b
            while at < len(breaks) and breaks[at] <= left:
                at += 1
            if at < len(breaks) and breaks[at] < b:
                right = breaks[at]
            elif inside == 0 and left == a:
                right = 0.5 * (a + b)
            if right <= left:
                right = b  # of two numbers side by side there is none between
            half = 0.5 * (right - left)
            for q in range(len(nodes)):
                begin = basis(kw, dw, left + half * (1.0 + nodes[q]), fw)
                h[:, :] = 0.0
                for j in range(dw + 1):
                    for c in range(4):
                        h[0, c] += fw[0, j] * row[begin + j, c]
                        h[1, c] += fw[0, j] * slope[begin + j, c]
                        h[2, c] += fw[1, j] * row[begin + j, c]
                for c in range(3):
                    x[c] = h[0, c] / h[0, 3]
                    for g in (1, 2):
                        h[g, c] = (h[g, c] - h[g, 3] * x[c]) / h[0, 3]
                size = 0.0
                for c in range(3):
                    i, j = (c + 1) % 3, (c + 2) % 3
                    n[c] = h[1, i] * h[2, j] - h[1, j] * h[2, i]
                    size += n[c] * n[c]
                w = sense * weight[k] * half * shares[q]
                out[0] += w * np.sqrt(size)
                for c in range(3):
                    along = w * n[c] * x[c]
                    out[1 + c] += w * np.sqrt(size) * x[c]
                    out[4] += along / 3.0
                    out[5 + c] += along * x[c] / 2.0
                    out[8 + c] += along * x[c] * x[c] / 3.0
                    out[11 + c] += along * x[c] * x[(c + 1) % 3] / 2.0
            left = right
    return out


@njit(cache=True, nogil=True)
def plain_feet(
    ku: Floats, kv: Floats, degree: int, net: Floats, start: Floats, points: Floats, steps: int, most: float
) -> tuple[Floats, Floats]:
    """Parameters (n,2) between 0 and 1 moved from start (n,2) towards the feet of points (n,3), by Newton's steps of
    the tangents' parts, no longer than `most` and none that leads away; and how far from the points they are (n,).
    net (nu,nv,3) of a surface of one degree that is not rational."""
    out, far = start.copy(), np.empty(len(points))
    fu, fv = np.empty((ROWS, degree + 1)), np.empty((ROWS, degree + 1))
    one, trial = np.empty((3, 3)), np.empty((3, 3))
    for n in range(len(points)):
        u, v = start[n, 0], start[n, 1]
        _sums(ku, kv, degree, degree, net, u, v, fu, fv, one)
        miss = 0.0
        for c in range(3):
            miss += (points[n, c] - one[0, c]) ** 2
        for _ in range(steps):
            a, b, d, p, q = 0.0, 0.0, 0.0, 0.0, 0.0
            for c in range(3):
                gap = points[n, c] - one[0, c]
                a += one[1, c] * one[1, c]
                b += one[1, c] * one[2, c]
                d += one[2, c] * one[2, c]
                p += one[1, c] * gap
                q += one[2, c] * gap
            det = max(a * d - b * b, 1e-300)
            to_u = min(max(u + min(max((d * p - b * q) / det, -most), most), 0.0), 1.0)
            to_v = min(max(v + min(max((a * q - b * p) / det, -most), most), 0.0), 1.0)
            if abs(to_u - u) + abs(to_v - v) < 1e-12:
                break
            _sums(ku, kv, degree, degree, net, to_u, to_v, fu, fv, trial)
            nearer = 0.0
            for c in range(3):
                nearer += (points[n, c] - trial[0, c]) ** 2
            if nearer >= miss:
                break
            u, v, miss = to_u, to_v, nearer
            one[:, :] = trial
        out[n, 0], out[n, 1], far[n] = u, v, np.sqrt(miss)
    return out, far


@njit(cache=True)
def _brought(t: float, low: float, high: float, closed: bool) -> float:
    if low <= t <= high:
        return t
    if closed:
        return float(low + np.mod(t - low, high - low))
    return float(min(max(t, low), high))


@njit(cache=True)
def surface_closest(
    ku: Floats, kv: Floats, du: int, dv: int, net: Floats, closed_u: bool, closed_v: bool, start: Floats, points: Floats
) -> Floats:
    """Parameters (n,2) of the closest points to (n,3), by Newton from start (n,2)."""
    out = np.empty((len(points), 2))
    fu, fv, one, trial = np.empty((ROWS, du + 1)), np.empty((ROWS, dv + 1)), np.empty((6, 7)), np.empty((6, 7))
    u0, u1 = ku[du], ku[len(ku) - du - 1]
    v0, v1 = kv[dv], kv[len(kv) - dv - 1]
    least = 1e-14 * (max(abs(u0), abs(u1), abs(v0), abs(v1)) + 1.0)
    for n in range(len(points)):
        u, v = start[n, 0], start[n, 1]
        surface_at(ku, kv, du, dv, net, u, v, fu, fv, one)
        miss = 0.0
        for c in range(3):
            miss += (one[0, c] - points[n, c]) ** 2
        for _ in range(30):
            f0, f1, a, b, d, ra, rb, rd = 0.0, 0.0, 0.0, 0.0, 0.0, 0.0, 0.0, 0.0
            for c in range(3):
                r = one[0, c] - points[n, c]
                f0 += r * one[1, c]
                f1 += r * one[2, c]
                a += one[1, c] ** 2
                b += one[1, c] * one[2, c]
                d += one[2, c] ** 2
                ra += r * one[3, c]
                rb += r * one[4, c]
                rd += r * one[5, c]
            ha, hb, hd = a + ra, b + rb, d + rd
            if not (ha * hd - hb * hb > 1e-12 * a * d and ha > 0.0):
                ha, hb, hd = a * 1.000001 + 1e-300, b, d * 1.000001 + 1e-300
            det = ha * hd - hb * hb
            if abs(det) < 1e-300:
                det = 1e-300
            su, sv = -(f0 * hd - f1 * hb) / det, -(f1 * ha - f0 * hb) / det
            # At a rim that holds the point back the way goes along the rim.
            held_u = not closed_u and ((u <= u0 and f0 > 0.0) or (u >= u1 and f0 < 0.0))
            held_v = not closed_v and ((v <= v0 and f1 > 0.0) or (v >= v1 and f1 < 0.0))
            if held_u and held_v:
                break
            if held_u:
                su, sv = 0.0, -f1 / (d + rd if d + rd > 1e-3 * d else d + 1e-300)
            elif held_v:
                su, sv = -f0 / (a + ra if a + ra > 1e-3 * a else a + 1e-300), 0.0
            share, better, nu, nv, now = 1.0, False, u, v, miss
            for _half in range(8):
                nu = _brought(u + share * su, u0, u1, closed_u)
                nv = _brought(v + share * sv, v0, v1, closed_v)
                surface_at(ku, kv, du, dv, net, nu, nv, fu, fv, trial)
                now = 0.0
                for c in range(3):
                    now += (trial[0, c] - points[n, c]) ** 2
                if now <= miss * (1.0 + 1e-12) + 1e-30:
                    better = True
                    break
                share *= 0.4
            if not better:
                break
            step = max(abs(nu - u), abs(nv - v))
            u, v, miss = nu, nv, now
            for k in range(6):
                for c in range(3):
                    one[k, c] = trial[k, c]
            if step < least:
                break
        out[n, 0], out[n, 1] = u, v
    return out
