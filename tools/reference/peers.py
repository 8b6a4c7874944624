#!/usr/bin/env python3
"""Crossings of drifts as the program tells them, beside those of a general-purpose state-space model (statsmodels).

Drives the command “vaaka compute shape” with all worlds in one call, as any other program would, and writes docs/PEERS.md.
Run:  python3 -m venv .venv && .venv/bin/pip install numpy statsmodels && .venv/bin/python tools/reference/peers.py target/debug/vaaka

The peer: a local linear trend with irregular noise (statsmodels.tsa.statespace.UnobservedComponents), fitted by maximum
likelihood to baseline and points; its level a forecast with its standard error, and the crossing between where the upper and
the lower end of the 95 % interval reach the limit. And a second one: a straight trend with first-order autoregressive noise
(SARIMAX) through the last forty points.
"""
import json
import math
import pathlib
import subprocess
import sys
import warnings
from datetime import datetime, timedelta, timezone

import numpy
import statsmodels
from statsmodels.tsa.statespace.sarimax import SARIMAX
from statsmodels.tsa.statespace.structural import UnobservedComponents

warnings.filterwarnings("ignore")
WORLDS, LIMIT, HORIZON = 120, 8.0, 700
START = datetime(2026, 1, 5, 6, tzinfo=timezone.utc)


def noise(random, n, rho):
    e = random.normal(0, 1, n)
    for i in range(1, n):
        e[i] = rho * e[i - 1] + math.sqrt(1 - rho * rho) * e[i]
    return e


def world(random, rho):
    """A drift that begins some time after the baseline, looked at when it has come half the way to the limit."""
    slope, onset = random.uniform(0.02, 0.2), int(random.integers(20, 80))
    half = onset + int(LIMIT / 2 / slope)
    values = noise(random, 50 + half, rho)
    level = slope * numpy.maximum(numpy.arange(half) - onset, 0)
    return {"baseline": values[:50], "points": values[50:] + level, "crosses": onset + LIMIT / slope - (half - 1)}


def program(path, worlds):
    at = lambda i: (START + timedelta(hours=8 * i)).strftime("%Y-%m-%dT%H:%M:%SZ")
    series = [{"at": [at(i) for i in range(len(w["points"]))], "values": list(w["points"]),
               "baseline": list(w["baseline"]), "upper": LIMIT} for w in worlds]
    out = subprocess.run([path, "compute", "shape"], input=json.dumps({"series": series}), capture_output=True, text=True, check=True)
    told = []
    for w, found in zip(worlds, json.loads(out.stdout)["series"]):
        crossing = found["level_crosses"]
        if found["told"] != "drift" or crossing is None:
            told.append(None)
            continue
        newest = START + timedelta(hours=8 * (len(w["points"]) - 1))
        checks = lambda m: math.inf if m is None else (datetime.fromisoformat(m.replace("Z", "+00:00")) - newest).total_seconds() / 28_800
        told.append((checks(crossing["low"]), checks(crossing["high"])))
    return told


def reached(mean, error):
    first = lambda line: next((i + 1.0 for i, v in enumerate(line) if v >= LIMIT), math.inf)
    low, high = first(mean + 1.96 * error), first(mean - 1.96 * error)
    return None if math.isinf(low) else (low, high)


def local_trend(w):
    y = numpy.concatenate([w["baseline"], w["points"]])
    found = UnobservedComponents(y, level="lltrend").fit(disp=False, maxiter=200)
    ahead = found.get_forecast(HORIZON)
    # The level without the noise of a single check.
    error = numpy.sqrt(numpy.maximum(ahead.var_pred_mean - found.params[0], 1e-9))
    return reached(ahead.predicted_mean, error)


def straight(w):
    found = SARIMAX(w["points"][-40:], order=(1, 0, 0), trend="ct").fit(disp=False)
    # Mean of the trend alone: parameters of the intercept form, with the delta method left to the fit's covariance.
    steps = numpy.arange(41, 41 + HORIZON)
    intercept, trend, rho = found.params[0], found.params[1], found.params[2]
    line = lambda p, t: p[1] / (1 - p[2]) * t + (p[0] - p[1] * p[2] / (1 - p[2])) / (1 - p[2])
    mean = line((intercept, trend, rho), steps)
    covariance = found.cov_params()[:3, :3]
    gradient = numpy.array([(line(tuple(found.params[:3] + d), steps) - mean) / 1e-6 for d in numpy.eye(3) * 1e-6])
    error = numpy.sqrt(numpy.maximum(numpy.einsum("it,ij,jt->t", gradient, covariance, gradient), 0))
    return reached(mean, error)


def row(name, told, worlds):
    known = [(t, w["crosses"]) for t, w in zip(told, worlds) if t is not None]
    held = sum(low <= truth <= high for (low, high), truth in known)
    widths = sorted(high - low for (low, high), _ in known if not math.isinf(high))
    width = f"{widths[len(widths) // 2]:.0f}" if widths else "–"
    return f"| {name} | {len(known)} of {len(worlds)} | {100 * held / max(len(known), 1):.1f} % | {width} | {sum(math.isinf(h) for (_, h), _ in known)} |"


if __name__ == "__main__":
    lines = ["# Crossings beside a general-purpose model", "",
             f"Made by `tools/reference/peers.py` with statsmodels {statsmodels.__version__}: {WORLDS} drifts a table, each looked at when its level has come half the way to a limit of {LIMIT:.0f} sigma; 95 % intervals of the check at which the level reaches it. The program is asked through its command, all worlds in one call. A crossing that is told by nobody is none that was missed: the program tells none where it cannot tell a drift from a step."]
    for rho in [0.0, 0.3, 0.6]:
        random = numpy.random.default_rng(2_200 + int(10 * rho))
        worlds = [world(random, rho) for _ in range(WORLDS)]
        lines += ["", f"## Autocorrelation {rho}", "", "| told by | told | interval holds it | median width, checks | without an end |", "|---|---|---|---|---|",
                  row("the program", program(sys.argv[1], worlds), worlds),
                  row("local linear trend", [local_trend(w) for w in worlds], worlds),
                  row("trend with AR(1), last forty", [straight(w) for w in worlds], worlds)]
        print("\n".join(lines[-3:]))
    path = pathlib.Path(__file__).resolve().parents[2] / "docs/PEERS.md"
    path.write_text("\n".join(lines) + "\n")
