#!/usr/bin/env python3
"""Reference values for vaaka-core's shapes of a series (history::shape), with SciPy and ruptures.

Writes crates/vaaka-core/tests/data/shapes.json, which the Cargo tests read.
Run:  python3 -m venv .venv && .venv/bin/pip install scipy ruptures && .venv/bin/python tools/reference/shapes.py

Another way to the same numbers: no whitening and no running sums. Under each hypothesis the points are one draw of a
multivariate t distribution, t(nu0; c0, s0^2 (R + 11'/n0 + k^2 hh')), R the correlation matrix of a first-order
autoregression, (c0, n0, s0, nu0) the generalised least squares of the baseline under the same R; its density is
scipy.stats.multivariate_t. Influences Z known as g with deviations d (in sigmas of the baseline) move the mean by Zg and
add Z diag(d^2) Z' to the spread. One small case is integrated numerically over centre, effect and ln(sigma).
Posteriors, onsets, levels, slopes and crossings are mixed from all hypotheses, none left out.
The places of clear steps are compared with ruptures' PELT.
"""
import json
import math
import pathlib

import numpy
import ruptures
import scipy
from scipy import optimize, stats

RHOS = [0.0, 0.2, 0.4, 0.6]
SLOPES = [0.01, 0.03, 0.1, 0.3]
DAY = 86_400


def correlation(times, rho):
    """AR(1) along the checks; a gap of more than three usual distances forgets."""
    n = len(times)
    blocks = numpy.cumsum([0] + [1 if times[i] - times[i - 1] > 3 else 0 for i in range(1, n)])
    i = numpy.arange(n)
    r = rho ** numpy.abs(i[:, None] - i[None, :]) if rho else numpy.eye(n)
    return numpy.where(blocks[:, None] == blocks[None, :], r, 0.0)


def ground(case, rho):
    """c0, n0, nu0, s0^2 and the logarithm of the likelihood of the baseline itself."""
    if "baseline" in case:
        y = numpy.array(case["baseline"])
        n = len(y)
        r = correlation(numpy.arange(n), rho)
        inverse = numpy.linalg.inv(r)
        one = numpy.ones(n)
        n0 = one @ inverse @ one
        c0 = (one @ inverse @ y) / n0
        s2 = (y - c0) @ inverse @ (y - c0) / (n - 1)
        own = -0.5 * numpy.linalg.slogdet(r)[1] - 0.5 * math.log(n0) - 0.5 * (n - 1) * math.log(s2)
        return c0, n0, n - 1, s2, own
    known = case["known"]
    worth = known["center_worth"]
    n0 = 1 + (worth - 1) * (1 - rho) / (1 + rho) if worth > 1 else worth
    own = 0.0
    if known["autocorrelation"]:
        r, points = known["autocorrelation"]
        variance = (1 - rho * rho) / points
        own = -0.5 * (r - rho) ** 2 / variance - 0.5 * math.log(variance)
    return known["center"], n0, known["degrees_of_freedom"], known["std_dev"] ** 2, own


def hypotheses(times, events):
    """(kind, place, prior, size, h as a function of time)"""
    n = len(times)
    step_weight, drift_weight = numpy.ones(n), numpy.ones(n)
    for event in events:
        first = int(numpy.searchsorted(times, event))
        if 0 < first < n:
            step_weight[first] = drift_weight[first] = drift_weight[first - 1] = 2
    yield "flat", 0, 0.25, None, lambda t: 0.0 * t
    last = n - 4
    for at in range(last + 1):
        yield "step", at, 0.25 * step_weight[at] / step_weight[:last + 1].sum(), 3.0, lambda t, a=times[at]: (t >= a) * 1.0
    last = n - 5
    for at in range(last + 1):
        for k in SLOPES:
            yield "drift", at, 0.0625 * drift_weight[at] / drift_weight[:last + 1].sum(), k, lambda t, a=times[at]: numpy.maximum(t - a, 0)
    grid = sorted({i * n // 24 for i in range(24) if i * n // 24 <= last})
    pairs = [(a, b) for a in grid for b in grid if b > a]
    for a, b in pairs:
        for k in SLOPES:
            yield "stopped", a, 0.15 / 4 / len(pairs), k, lambda t, a=times[a], b=times[b]: numpy.maximum(numpy.minimum(t, b) - a, 0)
    knocks = [(at, length) for length in (1, 2, 4) for at in range(max(0, n - 40), n) if at + length < n]
    for at, length in knocks:
        yield "knock", at, 0.10 / len(knocks), 3.0, lambda t, a=times[at], b=times[at + length]: ((t >= a) & (t < b)) * 1.0


def solve(case):
    seconds = numpy.array(case["seconds"], dtype=float)
    gaps = sorted(g for g in numpy.diff(seconds) if g > 0)
    interval = gaps[len(gaps) // 2]
    times = (seconds - seconds[-1]) / interval
    y = numpy.array(case["values"])
    n = len(y)
    events = (numpy.array(case.get("events", []), dtype=float) - seconds[-1]) / interval
    given = case.get("influences", [])
    z = numpy.array([one["acts"] for one in given]).T.reshape(n, len(given))
    scale = numpy.std(case["baseline"], ddof=1) if "baseline" in case else case["known"]["std_dev"]
    deviation2 = numpy.array([(one["standard_uncertainty"] / scale) ** 2 for one in given])
    y = y - z @ numpy.array([one["effect"] for one in given])
    found = []
    for rho in RHOS:
        c0, n0, nu0, s2, own = ground(case, rho)
        r = correlation(times, rho)
        inverse = numpy.linalg.inv(r)
        one = numpy.ones(n)
        for kind, at, prior, size, h in hypotheses(times, events):
            hh = h(times)
            spread = r + numpy.outer(one, one) / n0 + (0 if size is None else size ** 2 * numpy.outer(hh, hh)) + z @ numpy.diag(deviation2) @ z.T
            ln = stats.multivariate_t(numpy.full(n, c0), s2 * spread, df=nu0, allow_singular=False).logpdf(y)
            found.append([kind, at, math.log(prior) + own + ln, rho, size, h, (c0, n0, nu0, s2, inverse)])
    top = max(f[2] for f in found)
    total = sum(math.exp(f[2] - top) for f in found)
    for f in found:
        f[2] = math.exp(f[2] - top) / total
    out = {"posterior": {k: sum(f[2] for f in found if f[0] == k) for k in ["flat", "step", "drift", "stopped", "knock"]},
           "autocorrelation": sum(f[2] * f[3] for f in found)}
    chosen = max(["step", "drift", "stopped", "knock"], key=lambda k: out["posterior"][k])
    out["likeliest"] = chosen
    weights = numpy.zeros(n)
    for f in found:
        if f[0] == chosen:
            weights[f[1]] += f[2]
    cumulative = numpy.cumsum(weights) / weights.sum()
    out["onset"] = [int(numpy.argmax(cumulative >= p)) for p in (0.025, 0.5, 0.975)]

    def moments(f):
        """Posterior of centre and effect by generalised least squares with the prior as further observations."""
        kind, at, w, rho, size, h, (c0, n0, nu0, s2, inverse) = f
        x = numpy.column_stack([numpy.ones(n), z] + ([] if size is None else [h(times)]))
        prior = numpy.diag([n0] + list(1 / deviation2) + ([] if size is None else [1 / size ** 2]))
        start = numpy.array([c0] + [0.0] * len(given) + ([] if size is None else [0.0]))
        precision = x.T @ inverse @ x + prior
        covariance = numpy.linalg.inv(precision)
        mean = covariance @ (x.T @ inverse @ y + prior @ start)
        rest = y - x @ mean
        b = nu0 * s2 + rest @ inverse @ rest + (mean - start) @ prior @ (mean - start)
        return mean, covariance, nu0 + n, b / (nu0 + n)

    def mixture(parts):
        def cdf(x):
            return sum(w * stats.t.cdf((x - m) / s, d) for w, m, s, d in parts)
        low = min(m - 60 * s for _, m, s, _ in parts)
        high = max(m + 60 * s for _, m, s, _ in parts)
        return cdf, [optimize.brentq(lambda x: cdf(x) - p, low, high, xtol=1e-13) for p in (0.025, 0.5, 0.975)]

    heavy = [(f, moments(f)) for f in found if f[2] > 1e-9]

    def level(of, t):
        parts, weight = [], sum(f[2] for f, _ in of)
        for f, (mean, covariance, d, s2) in of:
            ahead = [one["ahead"] for one in given]
            x = numpy.array([1.0] + ahead + ([] if f[4] is None else [float(f[5](numpy.array([t]))[0])]))
            moved = sum(one["ahead"] * one["effect"] for one in given)
            parts.append((f[2] / weight, x @ mean + moved, math.sqrt(s2 * (x @ covariance @ x)), d))
        return parts

    out["level"] = mixture(level(heavy, 0.0))[1]
    if out["posterior"]["drift"] >= 0.8:
        drifts = [(f, m) for f, m in heavy if f[0] == "drift"]
        weight = sum(f[2] for f, _ in drifts)
        week = 7 * DAY / interval
        out["per_week"] = mixture([(f[2] / weight, week * m[-1], week * math.sqrt(s2 * c[-1, -1]), d) for f, (m, c, d, s2) in drifts])[1]
        upper = case["upper"]

        def beyond(t):
            return 1 - mixture_cdf(level(drifts, t), upper)

        def mixture_cdf(parts, x):
            return sum(w * stats.t.cdf((x - m) / s, d) for w, m, s, d in parts)

        horizon = 366 * DAY / interval
        out["crossing_seconds"] = []
        for p in (0.025, 0.5, 0.975):
            if beyond(0.0) >= p:
                out["crossing_seconds"].append(0.0)
            elif beyond(horizon) < p:
                out["crossing_seconds"].append(None)
            else:
                out["crossing_seconds"].append(interval * optimize.brentq(lambda t: beyond(t) - p, 0.0, horizon, xtol=1e-9))
    return out


def noise(random, n, rho=0.0):
    e = random.normal(0, 1, n)
    x = numpy.zeros(n)
    for i in range(n):
        x[i] = e[i] if i == 0 else rho * x[i - 1] + math.sqrt(1 - rho * rho) * e[i]
    return x


def rounded(values, places=4):
    return [float(f"{v:.{places}f}") for v in values]


random = numpy.random.default_rng(22)
i = numpy.arange(60)
shift = 8 * 3600
even = [int(t) * shift for t in i]
gaps = [int(t) * shift + (10 * DAY if t > 30 else 0) + (2 * shift if t > 45 else 0) for t in i]
base = lambda rho=0.0, n=30: rounded(5 + 2 * noise(random, n, rho))
cases = [
    {"name": "flat", "baseline": base(), "values": rounded(5 + 2 * noise(random, 60)), "seconds": even},
    {"name": "step", "baseline": base(), "values": rounded(5 + 2 * noise(random, 60) + 5 * (i >= 35)), "seconds": even},
    {"name": "drift", "baseline": base(), "values": rounded(5 + 2 * noise(random, 60) + 0.3 * numpy.maximum(i - 25, 0)), "seconds": even},
    {"name": "slow drift", "baseline": base(), "values": rounded(5 + 2 * noise(random, 60) + 0.1 * i), "seconds": even},
    {"name": "stopped", "baseline": base(), "values": rounded(5 + 2 * noise(random, 60) + 0.6 * numpy.clip(i - 15, 0, 15)), "seconds": even},
    {"name": "knock", "baseline": base(), "values": rounded(5 + 2 * noise(random, 60) + 9 * ((i >= 40) & (i < 44))), "seconds": even},
    {"name": "autocorrelated", "baseline": base(0.5), "values": rounded(5 + 2 * noise(random, 60, 0.5)), "seconds": even},
    {"name": "gaps", "baseline": base(0.3), "values": rounded(5 + 2 * noise(random, 60, 0.3) + 0.05 * numpy.maximum(numpy.array(gaps) / shift - 25, 0)), "seconds": gaps},
    {"name": "few", "baseline": base(0.0, 20), "values": rounded(5 + 2 * noise(random, 5)), "seconds": even[:5]},
    {"name": "known", "known": {"center": 5.2, "std_dev": 1.9, "center_worth": 30.0, "degrees_of_freedom": 18.6, "autocorrelation": [0.3, 30]},
     "values": rounded(5 + 2 * noise(random, 60) - 0.25 * numpy.maximum(i - 40, 0)), "seconds": even},
    {"name": "event", "baseline": base(), "values": rounded(5 + 2 * noise(random, 60) + 2 * (i >= 35)), "seconds": even, "events": [35 * shift - 600]},
]
# Drawn after the others, so that those stay what they were.
steps = lambda at: [float(v) for v in (i >= at)]
warm = rounded(3 * numpy.sin(i / 9.0) + 0.4 * noise(random, 60), 2)
cases += [
    {"name": "adjusted twice", "baseline": base(),
     "values": rounded(5 + 2 * noise(random, 60) + 0.35 * i - 7 * (i >= 20) - 6 * (i >= 40)), "seconds": even,
     "influences": [{"acts": steps(20), "ahead": 1.0, "effect": -7.2, "standard_uncertainty": 0.6},
                    {"acts": steps(40), "ahead": 1.0, "effect": -6.5, "standard_uncertainty": 0.6}]},
    {"name": "warm and cold", "baseline": base(), "values": rounded(5 + 2 * noise(random, 60) + 1.5 * numpy.array(warm)), "seconds": even,
     "influences": [{"acts": warm, "ahead": 0.0, "effect": 1.3, "standard_uncertainty": 0.3}]},
    {"name": "known to the last digit", "baseline": base(0.3), "values": rounded(5 + 2 * noise(random, 60, 0.3) - 4 * (i >= 30)), "seconds": gaps,
     "influences": [{"acts": steps(30), "ahead": 1.0, "effect": -4.0, "standard_uncertainty": 1e-6},
                    {"acts": warm, "ahead": 0.0, "effect": 0.0, "standard_uncertainty": 0.5}]},
]
for case in cases:
    case["upper"] = 25.0
    case["expected"] = solve(case)
    print(case["name"], {k: round(v, 3) for k, v in case["expected"]["posterior"].items()}, case["expected"]["onset"])

# One hypothesis against another by integration over centre, effect and ln(sigma): nothing of the closed forms is used.
y0, y = numpy.array([0.3, -0.8, 0.5, 1.1, -0.9, 0.1]), numpy.array([0.2, 1.9, 2.8, 1.4, 2.2])
h = numpy.array([0.0, 1.0, 1.0, 1.0, 1.0])


nodes, node_weights = numpy.polynomial.legendre.leggauss(160)


def axis(low, high):
    """Gauss-Legendre over an interval that holds all but nothing of the density."""
    return 0.5 * (high - low) * nodes + 0.5 * (high + low), 0.5 * (high - low) * node_weights


(s, sw), (c, cw), (e, ew) = axis(-2.5, 2.5), axis(-6, 6), axis(-14, 16)
s, c, e = s[:, None, None], c[None, :, None], e[None, None, :]


def ln_density(effect):
    rest = sum((v - c) ** 2 for v in y0) + sum((v - c - effect * g) ** 2 for v, g in zip(y, h))
    return -(len(y0) + len(y)) * s - 0.5 * rest / numpy.exp(2 * s)


prior = -s - math.log(3) - 0.5 * math.log(2 * math.pi) - 0.5 * (e / (3 * numpy.exp(s))) ** 2
step = numpy.einsum("ijk,i,j,k", numpy.exp(ln_density(e) + prior), sw, cw, ew)
flat = numpy.einsum("ijk,i,j->", numpy.exp(ln_density(0.0 * e))[:, :, :1], sw, cw)
one = numpy.ones(len(y))
m, s2, n0 = y0.mean(), y0.var(ddof=1), len(y0)
spread = numpy.eye(len(y)) + numpy.outer(one, one) / n0
ln_step = stats.multivariate_t(numpy.full(len(y), m), s2 * (spread + 9 * numpy.outer(h, h)), df=n0 - 1).logpdf(y)
ln_flat = stats.multivariate_t(numpy.full(len(y), m), s2 * spread, df=n0 - 1).logpdf(y)
print("integrated", float(step / flat), "multivariate t", math.exp(ln_step - ln_flat))
assert abs(float(step / flat) / math.exp(ln_step - ln_flat) - 1) < 1e-5

# Places of clear steps by another method.
places = []
for at in [20, 33, 47]:
    values = rounded(noise(random, 60) + 6 * (i >= at))
    found = ruptures.Pelt(model="l2", min_size=4, jump=1).fit(numpy.array(values)).predict(pen=12)
    places.append({"values": values, "pelt": [int(p) for p in found[:-1]]})

out = {"made_with": f"SciPy {scipy.__version__}, ruptures {ruptures.__version__}", "cases": cases, "integrated_step_over_flat": float(step / flat), "places": places}
path = pathlib.Path(__file__).resolve().parents[2] / "crates/vaaka-core/tests/data/shapes.json"
path.write_text(json.dumps(out, indent=1) + "\n")
