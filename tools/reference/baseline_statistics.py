#!/usr/bin/env python3
"""Reference values for vaaka-core's baseline statistics, with SciPy and statsmodels.

Writes crates/vaaka-core/tests/data/baseline_statistics.json, which the Cargo tests read.
Run:  python3 -m venv .venv && .venv/bin/pip install scipy statsmodels && .venv/bin/python tools/reference/baseline_statistics.py

 * Anderson-Darling of normality with estimated mean and deviation: scipy.stats.anderson for A2, and
   statsmodels' normal_ad for the p-value (D'Agostino and Stephens 1986).
 * Autocorrelation by statsmodels' acf.
 * Variance components of a one-way layout with unequal groups: mean squares by scipy.stats.f_oneway
   and statsmodels' anova_lm, combined by the method of moments.
 * Constants of subgroups of normal data, d2, d3 and c4, by adaptive quadrature.
"""
import json
import math
import pathlib
import warnings

import numpy
import scipy
import statsmodels
from scipy import integrate, special, stats
from statsmodels.stats.diagnostic import normal_ad
from statsmodels.tsa.stattools import acf

warnings.simplefilter("ignore")
random = numpy.random.default_rng(20)

samples = {
    "normal": random.normal(5.0, 2.0, 60),
    "uniform": random.uniform(-1.0, 1.0, 80),
    "skewed": random.exponential(1.0, 40),
    "two levels": numpy.concatenate([random.normal(0, 1, 30), random.normal(4, 1, 30)]),
    "few": random.normal(0.0, 1.0, 10),
    "coarse": numpy.round(random.normal(0.0, 1.0, 50) * 2) / 2,
    "walk": numpy.cumsum(random.normal(0.0, 1.0, 100)),
}
out = {"made_with": f"SciPy {scipy.__version__}, statsmodels {statsmodels.__version__}", "samples": []}
for name, values in samples.items():
    values = [float(f"{v:.6f}") for v in values]
    a2 = stats.anderson(values, "norm").statistic
    out["samples"].append({
        "name": name, "values": values, "a2": float(a2), "p": float(normal_ad(numpy.array(values))[1]),
        "acf": [float(v) for v in acf(values, nlags=5, fft=False)[1:]],
    })

groups = [[float(f"{v:.4f}") for v in random.normal(m, 1.0, n)] for m, n in zip([0.0, 1.5, -0.5, 0.8], [3, 5, 4, 2])]
everything = numpy.concatenate([numpy.array(g) for g in groups])
total, count = len(everything), len(groups)
within = sum(((numpy.array(g) - numpy.mean(g)) ** 2).sum() for g in groups) / (total - count)
between = sum(len(g) * (numpy.mean(g) - everything.mean()) ** 2 for g in groups) / (count - 1)
f, p = stats.f_oneway(*groups)
assert abs(between / within - f) < 1e-9
size = (total - sum(len(g) ** 2 for g in groups) / total) / (count - 1)
out["groups"] = {"values": groups, "within_variance": float(within), "between_variance": float(max(0.0, (between - within) / size)),
                 "f": float(f), "p": float(p)}

out["constants"] = []
phi, cdf = stats.norm.pdf, stats.norm.cdf
for n in [2, 3, 4, 5, 6, 7, 8, 10, 15, 25]:
    d2 = integrate.quad(lambda x: 1 - cdf(x) ** n - (1 - cdf(x)) ** n, -12, 12, epsabs=1e-13, limit=400)[0]
    inner = lambda y, x: 1 - cdf(y) ** n - (1 - cdf(x)) ** n + (cdf(y) - cdf(x)) ** n
    square = 2 * integrate.dblquad(lambda y, x: inner(y, x), -9, 9, lambda x: x, lambda x: 9, epsabs=1e-9, epsrel=1e-9)[0]
    c4 = math.sqrt(2 / (n - 1)) * math.exp(special.gammaln(n / 2) - special.gammaln((n - 1) / 2))
    out["constants"].append({"n": n, "d2": d2, "d3": math.sqrt(square - d2 * d2), "c4": c4})

path = pathlib.Path(__file__).resolve().parents[2] / "crates/vaaka-core/tests/data/baseline_statistics.json"
path.write_text(json.dumps(out, indent=1) + "\n")
print(path.name, [(c["n"], round(c["d2"], 6), round(c["d3"], 6), round(c["c4"], 6)) for c in out["constants"]][:4])
