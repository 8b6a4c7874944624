#!/usr/bin/env python3
"""Curves through blocks with NumPy and SciPy, for crates/vaaka-core/tests/data/sensor_curve.json.

Run:  python3 -m venv .venv && .venv/bin/pip install scipy && .venv/bin/python tools/reference/sensor_curve.py

Codes and hardness are made up. The monotone curve is scipy.interpolate.PchipInterpolator (Fritsch and Butland), the parabola
numpy.polyfit of degree two through three blocks.
"""

import json
import pathlib

import numpy as np
from scipy.interpolate import PchipInterpolator

cases = []
rng = np.random.default_rng(18)
for number in range(30):
    count = 3 if number % 2 == 0 else int(rng.integers(4, 8))
    codes = np.sort(rng.uniform(200, 900, count))
    hardness = np.sort(rng.uniform(20, 66, count))
    if number % 4 == 0:
        # As real ones are: nearly straight, a little bent.
        share = (codes - codes[0]) / (codes[-1] - codes[0])
        hardness = 24 + 38 * (share + float(rng.uniform(-0.6, 0.6)) * share * (1 - share))
    if number % 5 == 4:
        hardness = hardness[::-1]
    codes, hardness = np.round(codes, 1), np.round(hardness, 2)
    if np.any(np.diff(codes) <= 0) or np.any(np.diff(hardness) == 0):
        continue
    at = np.linspace(codes[0], codes[-1], 9)
    monotone = PchipInterpolator(codes, hardness)(at)
    parabola = None
    if count == 3:
        fitted = np.poly1d(np.polyfit(codes, hardness, 2))
        ends = np.polyder(fitted)(codes[[0, -1]])
        parabola = fitted(at).tolist() if ends[0] * ends[1] > 0 else []
    cases.append(
        {
            "codes": codes.tolist(),
            "hardness": hardness.tolist(),
            "at": at.tolist(),
            "monotone": monotone.tolist(),
            "parabola": parabola,
        }
    )

path = pathlib.Path(__file__).parents[2] / "crates/vaaka-core/tests/data/sensor_curve.json"
path.write_text(json.dumps({"cases": cases}, indent=1) + "\n")
print(len(cases), "cases,", sum(case["parabola"] == [] for case in cases), "of them turn")
