#!/usr/bin/env python3
"""Reference values for vaaka-core's chart constants, by numerical integration with SciPy.

Writes crates/vaaka-core/tests/data/control_constants.json, which the Cargo tests read.
Run:  python3 -m venv .venv && .venv/bin/pip install scipy && .venv/bin/python tools/reference/control_constants.py

 * d2(n), d3(n): mean and standard deviation of the range of n standard normal values,
   from E[R] = integral of 1 - F^n - (1-F)^n, and the double integral for E[R^2].
 * c4(n) = sqrt(2/(n-1)) * Gamma(n/2) / Gamma((n-1)/2), checked by integrating the chi density.
 * Run length of limits at +-k sigma together with an EWMA (lambda, L, exact time-varying
   limits): the density of z is carried forward on Gauss-Legendre nodes scaled to each point's limits.
"""
import json
import math
import pathlib
import sys

import numpy as np
import scipy
from scipy import integrate, optimize, stats


def range_constants(n):
    cdf = stats.norm.cdf
    d2 = integrate.quad(lambda x: 1 - cdf(x) ** n - (1 - cdf(x)) ** n, -9, 9, epsabs=1e-13)[0]
    # E[R^2] = 2 * double integral over x < y of 1 - F(y)^n - (1-F(x))^n + (F(y)-F(x))^n
    inner = lambda x, y: 1 - cdf(y) ** n - (1 - cdf(x)) ** n + (cdf(y) - cdf(x)) ** n
    second = 2 * integrate.dblquad(inner, -9, 9, lambda y: -9, lambda y: y, epsabs=1e-10)[0]
    return d2, math.sqrt(second - d2 * d2)


def c4(n):
    closed = math.sqrt(2 / (n - 1)) * math.exp(math.lgamma(n / 2) - math.lgamma((n - 1) / 2))
    chi = integrate.quad(lambda x: x * stats.chi.pdf(x, n - 1), 0, 60, epsabs=1e-13)[0]
    assert abs(closed - chi / math.sqrt(n - 1)) < 1e-9
    return closed


def run_length(k, lam, width, shift=0.0, nodes=901, slope=0.0):
    """Average run length of 'beyond k sigma or beyond the EWMA limits', by density propagation."""
    u, w = np.polynomial.legendre.leggauss(nodes)
    steady = width * math.sqrt(lam / (2 - lam))
    keep = 1 - lam
    # First point: z = lam * x.
    total = 1.0
    half = width * lam
    z = half * u
    density = stats.norm.pdf(z / lam - shift) / lam * (np.abs(z / lam) <= k)
    weight = half * w
    alive = float((density * weight).sum())
    total += alive
    i = 1
    while alive > 1e-12 and i < 200000:
        i += 1
        half_new = steady * math.sqrt(1 - keep ** (2 * i))
        z_new = half_new * u
        if i > 120 and slope == 0.0:
            # Steady limits: the remaining sum is a linear system.
            x = (z_new[:, None] - keep * z[None, :]) / lam
            q = stats.norm.pdf(x - shift) / lam * (np.abs(x) <= k) * weight[None, :]
            # density_{i+1} = q density_i; the rest is sum over i of weight . density
            rest = np.linalg.solve(np.eye(nodes) - q, q @ density)
            return total + float((rest * half_new * w).sum())
        x = (z_new[:, None] - keep * z[None, :]) / lam
        kernel = stats.norm.pdf(x - shift - slope * i) / lam * (np.abs(x) <= k)
        density = kernel @ (density * weight)
        z, weight = z_new, half_new * w
        alive = float((density * weight).sum())
        total += alive
    return total


def main():
    if "--explore" in sys.argv:
        for k in (3.0, 3.2, 3.25, 3.3, 3.5, 40.0):
            alone = 1 / (2 * stats.norm.sf(k))
            row = [f"{w}: {run_length(k, 0.1, w):.0f}" for w in (2.814, 2.9, 3.0, 3.1, 3.2)]
            print(k, f"alone {alone:.0f}", row)
        return
    design = json.loads(pathlib.Path(__file__).with_name("default_design.json").read_text())
    k, lam, width = design["multiplier"], design["lambda"], design["width"]
    big = 40.0
    out = {
        "made_by": f"tools/reference/control_constants.py, SciPy {scipy.__version__}, NumPy {np.__version__}",
        "constants": [
            dict(n=n, d2=d2, d3=d3, c4=c4(n)) for n in range(2, 11) for d2, d3 in [range_constants(n)]
        ],
        "three_sigma_alone": 1 / (2 * stats.norm.sf(3.0)),
        "default_design": dict(
            design,
            in_control=run_length(k, lam, width),
            shifted=[dict(shift=s, run_length=run_length(k, lam, width, s)) for s in (0.5, 1.0, 1.5, 2.0, 3.0)],
        ),
        # Lucas and Saccucci 1990 table 3 gives 500 for lambda 0.1, L 2.814 without outer limits
        # (zero state, steady limits); with exact limits the value is a little smaller.
        "ewma_alone": dict(width=2.814, run_length=run_length(big, lam, 2.814)),
    }
    target = pathlib.Path(__file__).parents[2] / "crates/vaaka-core/tests/data/control_constants.json"
    target.write_text(json.dumps(out, indent=1) + "\n")
    print(target)


if __name__ == "__main__":
    main()
