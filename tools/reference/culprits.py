#!/usr/bin/env python3
"""Reference values for vaaka-core's question whose fault a change is (history::culprit), with SciPy.

Writes crates/vaaka-core/tests/data/culprits.json, which the Cargo tests read.
Run:  python3 -m venv .venv && .venv/bin/pip install scipy && .venv/bin/python tools/reference/culprits.py

Another way to the same numbers: nothing of the closed forms. The levels of the pairs are taken out by an orthonormal basis of
what they leave; under each explanation the reads are one draw of a multivariate normal distribution with the covariance that its
prior gives them (scipy.stats.multivariate_normal), alone or beside another.
"""
import json
import math
import pathlib

import numpy
import scipy
from scipy import linalg, stats

SIZES = [0.7, 2.0]


def solve(reads):
    reads = sorted(reads, key=lambda r: r["shift"])
    pairs = {}
    for place, r in enumerate(reads):
        pairs.setdefault((r["instrument"], r["standard"], r["epoch"]), []).append(place)
    differences = {}
    for (i, _, _), places in pairs.items():
        d = [abs(reads[b]["error"] - reads[a]["error"]) for a, b in zip(places, places[1:])]
        differences.setdefault(i, []).extend(d)
    sigma = {i: 1.4826 * float(numpy.median(d)) / math.sqrt(2) for i, d in differences.items()}
    y = numpy.zeros(len(reads))
    products = squares = 0.0
    dummies = []
    for key in sorted(pairs):
        places = pairs[key]
        e = numpy.array([reads[p]["error"] for p in places])
        z = numpy.clip((e - numpy.median(e)) / sigma[key[0]], -5, 5)
        half = z[:math.ceil(len(z) / 2)]
        c = half - half.mean()
        products += float((c[1:] * c[:-1]).sum())
        squares += float((c[1:] ** 2).sum())
        y[places] = z - z.mean()
        dummy = numpy.zeros(len(reads))
        dummy[places] = 1
        dummies.append(dummy)
    rho = min(max(products / squares, 0.0), 0.95)
    unit = 1 / math.sqrt((1 + rho) / (1 - rho)) if rho > 0.08 else 1.0
    y = y * unit
    q = linalg.null_space(numpy.array(dummies))
    yq = q.T @ y
    first = reads[0]["shift"]
    t = numpy.array([float(r["shift"] - first) for r in reads])
    last = t.max()
    times = sorted(set(t))
    n = min(len(times), 60)
    grid = sorted({times[s * len(times) // n] for s in range(1, n)} - {0.0, last})
    read_by = {}
    for r in reads:
        read_by.setdefault(r["standard"], set()).add(r["instrument"])
    reference = {s: float(numpy.median([sigma[i] for i in own])) for s, own in read_by.items()}

    def height(course, begin, end):
        if course == "step":
            return (t >= begin) * 1.0
        if course == "drift":
            return numpy.maximum(t - begin, 0) / max(last - begin, 1.0)
        return ((t >= begin) & (t < end)) * 1.0

    def weights(kind, which):
        of = numpy.array([1.0 if r[kind] == which else 0.0 for r in reads])
        if kind == "standard":
            of = of * numpy.array([-reference[r["standard"]] / sigma[r["instrument"]] for r in reads])
        return of * unit

    suspects = [(kind, which) for kind in ["instrument", "standard", "person", "area"] for which in sorted({r[kind] for r in reads})]

    def shapes(kind):
        courses = 3 if kind == "area" else 2
        for begin in grid:
            yield "step", begin, None, 1 / (courses * len(grid))
            yield "drift", begin, None, 1 / (courses * len(grid))
        if kind == "area":
            ends = grid[::max(math.ceil(len(grid) / 20), 1)]
            count = len(ends) * (len(ends) - 1) // 2
            for a, begin in enumerate(ends):
                for end in ends[a + 1:]:
                    yield "stretch", begin, end, 1 / (courses * count)

    def columns(suspect, h, together):
        x = weights(*suspect) * h
        if suspect[0] != "area" or together:
            return x[:, None]
        members = sorted({r["instrument"] for r in reads if r["area"] == suspect[1]})
        return numpy.column_stack([x * numpy.array([r["instrument"] == m for r in reads]) for m in members])

    def density(covariance):
        return float(stats.multivariate_normal(numpy.zeros(len(yq)), covariance).logpdf(yq))

    def prior(count, size, area):
        return size ** 2 * (numpy.ones((count, count)) + (0.35 ** 2 if area else 0.0) * numpy.eye(count))

    def evidence(suspect, base, together):
        below = density(base)
        found = []
        for course, begin, end, weight in shapes(suspect[0]):
            x = q.T @ columns(suspect, height(course, begin, end), together)
            for size in SIZES:
                area = suspect[0] == "area" and not together
                k = prior(x.shape[1], size, area)
                ln = density(base + x @ k @ x.T) - below + math.log(weight / 2)
                found.append((ln, course, begin, end, size))
        top = max(f[0] for f in found)
        return top + math.log(sum(math.exp(f[0] - top) for f in found)), max(found)

    eye = numpy.eye(len(yq))
    singles = [evidence(s, eye, False) for s in suspects]
    ln = {("none",): math.log(0.5)}
    for s, (value, _) in zip(suspects, singles):
        ln[(s,)] = math.log(0.4 / len(suspects)) + value
    count = len(suspects) * (len(suspects) - 1) // 2
    best = sorted(range(len(suspects)), key=lambda i: -singles[i][0])[:5]
    for i in best:
        value, (_, course, begin, end, size) = singles[i]
        x = q.T @ columns(suspects[i], height(course, begin, end), False)
        base = eye + x @ prior(x.shape[1], size, suspects[i][0] == "area") @ x.T
        for j in range(len(suspects)):
            if j != i:
                beside, _ = evidence(suspects[j], base, True)
                key = tuple(sorted([i, j]))
                ln[key] = max(ln.get(key, -math.inf), math.log(0.1 / count) + value + beside)
    top = max(ln.values())
    total = sum(math.exp(v - top) for v in ln.values())
    p = {k: math.exp(v - top) / total for k, v in ln.items()}
    inclusions = []
    for i, s in enumerate(suspects):
        beside = sum(v for k, v in p.items() if len(k) == 2 and isinstance(k[0], int) and i in k)
        inclusions.append({"kind": s[0], "id": s[1], "probability": p[(s,)] + beside})
    return {"none": p[("none",)], "autocorrelation": rho, "inclusions": inclusions}


random = numpy.random.default_rng(5)


def site(fault, size, shifts=36):
    reads = []
    for shift in range(shifts):
        person = int(random.integers(0, 2))
        for instrument in range(3):
            standard = int(random.integers(0, 2)) if instrument else 0
            late = 1.0 if shift >= 18 else 0.0
            names = {"instrument": instrument, "standard": standard, "person": person, "area": instrument // 2}
            moved = late * size if fault and names[fault[0]] == fault[1] else 0.0
            if fault and fault[0] == "standard":
                moved = -moved
            error = float(f"{10 * instrument + 3 * standard + moved + random.normal():.4f}")
            reads.append({"shift": shift, **names, "epoch": 1 if instrument == 2 and shift >= 30 else 0, "error": error})
    return reads


cases = []
for name, fault, size in [("nothing", None, 0.0), ("standard", ("standard", 1), 1.2), ("instrument", ("instrument", 2), 1.5), ("area", ("area", 1), 2.0)]:
    reads = site(fault, size)
    expected = solve(reads)
    print(name, round(expected["none"], 4), [(i["kind"], i["id"], round(i["probability"], 4)) for i in expected["inclusions"]])
    cases.append({"name": name, "reads": reads, "expected": expected})
path = pathlib.Path(__file__).resolve().parents[2] / "crates/vaaka-core/tests/data/culprits.json"
path.write_text(json.dumps({"made_with": f"SciPy {scipy.__version__}", "cases": cases}) + "\n")
