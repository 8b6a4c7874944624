#!/usr/bin/env python3
"""Positions of peaks with NumPy and SciPy, for crates/vaaka-core/tests/data/peaks.json.

Run:  python3 -m venv .venv && .venv/bin/pip install scipy && .venv/bin/python tools/reference/peaks.py

Curves are made up: Gaussian and skewed bands on a sloping background, on even and uneven axes, with noise. The vertex is
that of numpy.polyfit through the points of the top tenth; the centroid is integrated by scipy.integrate.quad over the
straight lines between the points.
"""

import json
import pathlib

import numpy as np
from scipy.integrate import quad
from scipy.stats import skewnorm

cases = []
rng = np.random.default_rng(16)
for number in range(24):
    centre = float(rng.uniform(250, 700))
    half = float(rng.uniform(4, 9))
    step = [0.1, 0.25, 0.5, 1.0][number % 4]
    x = np.arange(centre - 30, centre + 30, step)
    if number % 3 == 2:
        x = np.sort(x + rng.uniform(-0.3, 0.3, len(x)) * step)
    x = np.round(x, 4)
    width = float(rng.uniform(1.2, 3.0))
    shape = 0.0 if number % 2 == 0 else float(rng.uniform(0.5, 2.0))
    y = skewnorm.pdf(x, shape, loc=centre + rng.uniform(-1, 1), scale=width) * 2
    y = y + 0.002 * (x - centre) + 0.1
    if number % 4 == 3:
        y = y + rng.normal(0, 0.0004, len(x))
    y = np.round(y, 6)
    sign = -1.0 if number % 5 == 4 else 1.0

    inside = (x >= centre - half) & (x <= centre + half)
    wx, wy = x[inside], y[inside]
    top = (int(np.flatnonzero(wy == wy.max())[0]) + int(np.flatnonzero(wy == wy.max())[-1])) // 2
    prominence = wy[top] - max(wy[:top].min(), wy[top:].min())

    def region(share):
        level = wy[top] - share * prominence
        begin, end = top, top + 1
        while begin > 0 and wy[begin - 1] >= level:
            begin -= 1
        while end < len(wy) and wy[end] >= level:
            end += 1
        return level, begin, end

    _, begin, end = region(0.1)
    while end - begin < 5:
        wide = (begin > 0, end < len(wy))
        begin, end = begin - wide[0], end + wide[1]
    ux = wx[begin:end] - wx[top]
    c, b, _ = np.polyfit(ux, wy[begin:end], 2)
    vertex = wx[top] - b / (2 * c)

    level, begin, end = region(0.5)
    cross = lambda below, above: wx[below] + (level - wy[below]) / (wy[above] - wy[below]) * (wx[above] - wx[below])
    centroid = None
    if begin > 0 and end < len(wy):
        left, right = cross(begin - 1, begin), cross(end, end - 1)
        knots = [left, *wx[begin:end], right]
        outline = lambda at: np.interp(at, wx, wy) - level
        area = sum(quad(outline, a, b, epsabs=0, epsrel=1e-12)[0] for a, b in zip(knots, knots[1:]))
        moment = sum(quad(lambda at: (at - wx[top]) * outline(at), a, b, epsabs=1e-13)[0] for a, b in zip(knots, knots[1:]))
        centroid = float(wx[top] + moment / area)
    cases.append({
        "x": x.tolist(), "y": (sign * y).tolist(), "centre": centre, "half_width": half, "hangs": sign < 0,
        "vertex": float(vertex), "centroid": centroid,
    })
out = pathlib.Path(__file__).parents[2] / "crates/vaaka-core/tests/data/peaks.json"
out.write_text(json.dumps({"numpy": np.__version__, "cases": cases}) + "\n")
