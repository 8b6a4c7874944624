#!/usr/bin/env python3
"""Reference values for vaaka-core's decision rules, by numerical integration with SciPy.

Writes crates/vaaka-core/tests/data/decision_risks.json, which the Cargo tests read.
Run:  python3 -m venv .venv && .venv/bin/pip install scipy && .venv/bin/python tools/reference/decision_risks.py

 * Global false accept and false reject of JCGM 106:2012, 9.5.2: adaptive quadrature of the prior
   times the probability that the measured value is accepted.
 * The guard band that holds the global false accept at a given share, by Brent's method.
 * Coverage factors: Student's t for 95.45 %, 99 % and 99.73 % (JCGM 100:2008, table G.2).
"""
import json
import pathlib

import scipy
from scipy import integrate, optimize, stats


def risks(lower, upper, band, mean, sd, u):
    accept_lower, accept_upper = lower + band, upper - band

    def accepted(y):
        if accept_lower > accept_upper:
            return 0.0
        return stats.norm.cdf(accept_upper, y, u) - stats.norm.cdf(accept_lower, y, u)

    prior = lambda y: stats.norm.pdf(y, mean, sd)
    reach = 12 * sd
    quad = lambda f, a, b: integrate.quad(f, a, b, epsabs=1e-13, epsrel=1e-12, limit=400,
                                          points=[p for p in (accept_lower, accept_upper) if a < p < b] or None)[0]
    outside = lambda y: prior(y) * accepted(y)
    inside = lambda y: prior(y) * (1 - accepted(y))
    low, high = min(mean - reach, lower - 1), max(mean + reach, upper + 1)
    return {
        "false_accept": quad(outside, low, lower) + quad(outside, upper, high),
        "false_reject": quad(inside, lower, upper),
    }


def band_for(lower, upper, mean, sd, u, most):
    f = lambda band: risks(lower, upper, band, mean, sd, u)["false_accept"] - most
    return 0.0 if f(0.0) <= 0 else optimize.brentq(f, 0.0, (upper - lower) / 2, xtol=1e-10)


CASES = [
    (-1.0, 1.0, 0.0, 0.0, 0.5, 0.1), (-1.0, 1.0, 0.2, 0.0, 0.5, 0.1),
    (-1.0, 1.0, 0.1, 0.4, 0.6, 0.2), (-1.0, 1.0, 0.5, -0.3, 0.8, 0.3),
    (-2.0, 3.0, 0.4, 1.0, 1.2, 0.25), (-1.0, 1.0, 0.05, 0.0, 0.3, 0.02),
]
BANDS = [
    (-1.0, 1.0, 0.0, 0.8, 0.3, 0.02), (-1.0, 1.0, 0.4, 0.6, 0.2, 0.02),
    (-1.0, 1.0, 0.0, 0.5, 0.1, 0.001), (-2.0, 3.0, 1.0, 1.2, 0.25, 0.01), (-1.0, 1.0, 0.0, 0.1, 0.05, 0.02),
]


def main():
    out = {
        "made_by": f"tools/reference/decision_risks.py, SciPy {scipy.__version__}",
        "risks": [dict(zip(("lower", "upper", "band", "mean", "std_dev", "u"), case), **risks(*case)) for case in CASES],
        "bands": [dict(zip(("lower", "upper", "mean", "std_dev", "u", "most"), case), band=band_for(*case)) for case in BANDS],
        "coverage": [
            {"probability": p, "degrees_of_freedom": v, "factor": stats.t.ppf(0.5 + p / 2, v)}
            for p in (0.9545, 0.99, 0.9973) for v in (1, 2, 3, 5, 8, 10, 16, 20, 50, 100)
        ],
    }
    path = pathlib.Path(__file__).resolve().parents[2] / "crates/vaaka-core/tests/data/decision_risks.json"
    path.write_text(json.dumps(out, indent=1) + "\n")
    print(path)


if __name__ == "__main__":
    main()
