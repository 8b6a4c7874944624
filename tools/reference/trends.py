#!/usr/bin/env python3
"""Trends and steps by ranks with SciPy, for crates/vaaka-core/tests/data/trends.json.

Run:  python3 -m venv .venv && .venv/bin/pip install scipy && .venv/bin/python tools/reference/trends.py

 * The median slope by `scipy.stats.theilslopes`; Kendall's S from `kendalltau` (tau-b times its denominator), its
   variance with ties, and the normal probability with the correction of one.
 * Pettitt's statistic from its definition, as the sum over all pairs.
"""
import json
import math
import pathlib

import numpy as np
import scipy
from scipy import stats


def kendall(values):
    n = len(values)
    i, j = np.triu_indices(n, 1)
    signs = np.sign(values[j] - values[i])
    s = signs.sum()
    ties = np.unique(values, return_counts=True)[1]
    pairs = n * (n - 1) / 2
    tied = (ties * (ties - 1) / 2).sum()
    tau = stats.kendalltau(np.arange(n), values).statistic
    assert abs(tau * math.sqrt(pairs * (pairs - tied)) - s) < 1e-6
    variance = (n * (n - 1) * (2 * n + 5) - (ties * (ties - 1) * (2 * ties + 5)).sum()) / 18
    z = 0 if s == 0 else (s - np.sign(s)) / math.sqrt(variance)
    return 2 * stats.norm.sf(abs(z))


def pettitt(values):
    n = len(values)
    u = [np.sign(values[:t, None] - values[None, t:]).sum() for t in range(1, n)]
    k = int(np.argmax(np.abs(u)))
    p = min(1.0, 2 * math.exp(-6 * u[k] ** 2 / (n**3 + n**2)))
    return k + 1, float(np.median(values[k + 1:]) - np.median(values[: k + 1])), p


def main():
    rng = np.random.default_rng(45)
    series = []
    while len(series) < 30:
        n = int(rng.integers(12, 70))
        kind = len(series) % 3
        values = rng.normal(0, 1, n).round(1)
        if kind == 1:
            values = values + np.arange(n) * 0.04
        if kind == 2:
            values[n // 3:] += 1.5
        slope = stats.theilslopes(values).slope
        at, size, p = pettitt(values)
        left = values - slope * np.arange(n)
        beside = values - np.where(np.arange(n) < at, np.median(values[:at]), np.median(values[at:]))
        r = [float(((v - v.mean())[1:] * (v - v.mean())[:-1]).sum() / ((v - v.mean()) ** 2).sum()) for v in (left, beside)]
        # Where neighbours resemble each other the program allows for it; that is tested by simulation.
        if max(r) > 2 / math.sqrt(n):
            continue
        series.append(dict(values=[float(v) for v in values], change=float(slope * (n - 1)), trend=float(kendall(values)),
                           at=at, size=size, step=p))
    out = dict(made_by=f"tools/reference/trends.py, SciPy {scipy.__version__}, NumPy {np.__version__}", series=series)
    target = pathlib.Path(__file__).parents[2] / "crates/vaaka-core/tests/data/trends.json"
    target.write_text(json.dumps(out) + "\n")
    print(target)


if __name__ == "__main__":
    main()
