#!/usr/bin/env python3
"""Velocity and probe zero through steps with SciPy, for crates/vaaka-core/tests/data/step_lines.json.

Run:  python3 -m venv .venv && .venv/bin/pip install scipy && .venv/bin/python tools/reference/step_lines.py

Thicknesses, velocities and times are made up. The line t = t0 + (2/v) d is scipy.stats.linregress; its standard errors are those of
its own scatter. The shape of errors is the simplest of none, the same everywhere, in proportion, at the thinnest step alone, and a
line, each by scipy.optimize.lsq_linear with the weight of each step, that leaves a chi-square not in the last hundredth.
"""

import json
import pathlib

import numpy as np
from scipy.optimize import lsq_linear
from scipy.stats import chi2, linregress

rng = np.random.default_rng(19)
lines = []
for number in range(24):
    count = int(rng.integers(2, 9))
    thickness = np.round(np.sort(rng.uniform(0.8, 60, count)), 3)
    velocity, zero = float(rng.uniform(1200, 6500)), float(rng.uniform(-0.5, 4))
    times = np.round(zero + 2000 * thickness / velocity + rng.normal(0, 0.01, count), 5)
    fit = linregress(thickness, times)
    if fit.slope <= 0:
        continue
    residuals = times - fit.intercept - fit.slope * thickness
    lines.append(
        {
            "thickness": thickness.tolist(),
            "times": times.tolist(),
            "velocity": 2000 / fit.slope,
            "zero": fit.intercept,
            "residuals": residuals.tolist(),
            # Of two steps a line leaves nothing, and knows nothing of itself.
            "slope_error": None if count < 3 else float(fit.stderr),
            "zero_error": None if count < 3 else float(fit.intercept_stderr),
        }
    )

patterns = []
for number in range(80):
    count = int(rng.integers(3, 7))
    thickness = np.round(np.sort(rng.uniform(1, 40, count)), 2)
    u = np.round(rng.uniform(0.004, 0.012, count), 4)
    kind = number % 5
    errors = rng.normal(0, u)
    errors += {0: 0, 1: 0.06, 2: 0.004 * thickness, 3: np.where(thickness == thickness[0], 0.12, 0), 4: 0.05 + 0.006 * thickness}[kind]
    errors = np.round(errors, 4)
    ones, thin = np.ones(count), (thickness == thickness[0]).astype(float)
    left = {"nothing": (float(np.sum((errors / u) ** 2)), count)}
    for name, basis in [("zero", [ones]), ("velocity", [thickness]), ("thin_end", [thin]), ("zero_and_velocity", [ones, thickness])]:
        matrix = np.array(basis).T / u[:, None]
        found = lsq_linear(matrix, errors / u, tol=1e-14)
        left[name] = (float(2 * found.cost), count - len(basis))
    fitting = [(free, -square, name) for name, (square, free) in left.items() if chi2.sf(square, free) > 0.01]
    patterns.append(
        {
            "thickness": thickness.tolist(),
            "errors": errors.tolist(),
            "u": u.tolist(),
            "pattern": max(fitting)[2] if fitting else "other",
        }
    )

path = pathlib.Path(__file__).parents[2] / "crates/vaaka-core/tests/data/step_lines.json"
path.write_text(json.dumps({"lines": lines, "patterns": patterns}, indent=1) + "\n")
print(len(lines), "lines;", {name: sum(one["pattern"] == name for one in patterns) for name in sorted({p["pattern"] for p in patterns})})
