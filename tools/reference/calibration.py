#!/usr/bin/env python3
"""Calibration curves with statsmodels and SciPy, for crates/vaaka-core/tests/data/calibration.json.

Run:  python3 -m venv .venv && .venv/bin/pip install scipy statsmodels && .venv/bin/python tools/reference/calibration.py

Standards are made up. Line, standard errors, r and prediction are statsmodels WLS; the interval of an unknown is found by
scipy.optimize.brentq as the two x whose prediction interval just holds what was read; lack of fit is the F test of the line against
one mean a standard (statsmodels, compare_f_test).
"""

import json
import pathlib

import numpy as np
import statsmodels.api as sm
from scipy.optimize import brentq
from scipy.stats import t as student

rng = np.random.default_rng(21)
cases = []
for number in range(40):
    levels = np.round(np.sort(rng.uniform(0.5, 60, int(rng.integers(3, 8)))), 2)
    repeats = 1 if number % 3 == 0 else int(rng.integers(2, 4))
    x = np.repeat(levels, repeats)
    origin = number % 5 == 4
    slope, intercept = float(rng.uniform(0.005, 2)), 0.0 if origin else float(rng.normal(0, 0.05))
    bend = 0.002 if number % 4 == 1 else 0.0
    noise = 0.02 * slope * (x if number % 2 else np.full_like(x, 20.0))
    y = np.round(intercept + slope * (x - bend * x**2) + rng.normal(0, noise), 6)
    w = np.round(1 / x**2 * levels[0] ** 2, 8) if number % 2 else np.ones_like(x)
    design = x[:, None] if origin else sm.add_constant(x)
    fit = sm.WLS(y, design, weights=w).fit()
    s, free = float(np.sqrt(fit.scale)), int(fit.df_resid)
    if free < 1:
        continue
    confidence = [0.9, 0.95, 0.99][number % 3]
    t = float(student.ppf(0.5 + confidence / 2, free))
    row = lambda value: np.array([[value]]) if origin else np.array([[1.0, value]])
    cov = np.atleast_2d(fit.cov_params())

    def width(value, own):
        return t * np.sqrt(float((row(value) @ cov @ row(value).T)[0, 0]) + own)

    m, weight = int(rng.integers(1, 4)), float(np.round(rng.uniform(0.3, 1.0), 3))
    own = s**2 / (m * weight)
    at = float(np.round(rng.uniform(levels[0], levels[-1]), 3))
    predicted = float((row(at) @ fit.params)[0])
    read = float(np.round(predicted, 6))
    gap = lambda value: read - float((row(value) @ fit.params)[0])
    found = brentq(gap, -1e4, 1e4, xtol=1e-14)
    low = brentq(lambda value: gap(value) - width(value, own), -1e3, found, xtol=1e-13)
    high = brentq(lambda value: gap(value) + width(value, own), found, 1e3, xtol=1e-13)
    fitness = None
    if repeats > 1 and len(levels) > (1 if origin else 2):
        dummies = (x[:, None] == levels[None, :]).astype(float)
        full = sm.WLS(y, dummies, weights=w).fit()
        f, p, _ = full.compare_f_test(fit)
        fitness = [float(f), float(p)]
    params, errors = fit.params, fit.bse
    cases.append(
        {
            "x": x.tolist(), "y": y.tolist(), "weights": w.tolist(), "origin": origin, "confidence": confidence,
            "intercept": 0.0 if origin else float(params[0]), "slope": float(params[-1]),
            "intercept_error": 0.0 if origin else float(errors[0]), "slope_error": float(errors[-1]),
            "t": t, "std_dev": s, "readings": m, "weight": weight, "at": at,
            "predicted": [predicted, predicted - width(at, own), predicted + width(at, own)],
            "read": read, "read_back": [found, low, high], "lack_of_fit": fitness,
        }
    )

path = pathlib.Path(__file__).parents[2] / "crates/vaaka-core/tests/data/calibration.json"
path.write_text(json.dumps({"cases": cases}, indent=1) + "\n")
print(len(cases), "curves,", sum(case["lack_of_fit"] is not None for case in cases), "with lack of fit")
