#!/usr/bin/env python3
"""Packed JCAMP-DX files as the package jcamp reads them, for crates/vaaka-formats/tests/data/jcamp.json.

Run:  python3 -m venv .venv && .venv/bin/pip install jcamp numpy && .venv/bin/python tools/reference/spectra_files.py

Spectra are drawn at random and packed here as differences with repeats (DIF, DUP) and as values (SQZ); what is kept is what jcamp makes of
the texts.
"""

import io
import json
import pathlib

import jcamp
import numpy as np

SQZ = "@ABCDEFGHI"
DIF = "%JKLMNOPQR"
DUP = " STUVWXYZs"


def packed(value, first, negative):
    digits = str(abs(value))
    lead = int(digits[0])
    return (negative[lead] if value < 0 else first[lead]) + digits[1:]


def squeezed(value):
    return packed(value, SQZ, "@" + "abcdefghi")


def difference(value):
    return packed(value, DIF, "%" + "jklmnopqr")


def repeated(parts):
    out, n = [], 0
    while n < len(parts):
        count = 1
        while n + count < len(parts) and parts[n + count] == parts[n] and count < 9:
            count += 1
        out.append(parts[n])
        if count > 1:
            out.append(DUP[count])
        n += count
    return "".join(out)


def file(values, first, step, by_differences):
    last = first + step * (len(values) - 1)
    lines, at, row = [], 0, 12
    if by_differences:
        while True:
            part = values[at : at + row]
            parts = [difference(b - a) for a, b in zip(part, part[1:])]
            lines.append(f"{first + step * at:g} {squeezed(part[0])}{repeated(parts)}")
            at += len(part) - 1
            if at >= len(values) - 1:
                break
        lines.append(f"{last:g} {squeezed(values[-1])}")
    else:
        for at in range(0, len(values), row):
            lines.append(f"{first + step * at:g} " + "".join(squeezed(v) for v in values[at : at + row]))
    head = [
        "##TITLE=drawn at random", "##JCAMP-DX=4.24", "##DATA TYPE=UV-VIS SPECTRUM", "##XUNITS=NANOMETERS", "##YUNITS=ABSORBANCE",
        f"##FIRSTX={first}", f"##LASTX={last}", f"##NPOINTS={len(values)}", "##XFACTOR=1", "##YFACTOR=0.0001", "##XYDATA=(X++(Y..Y))",
    ]
    return "\n".join(head + lines + ["##END=", ""])


random = np.random.default_rng(24)
cases = []
for number in range(12):
    count = int(random.integers(13, 90))
    steps = random.integers(-40, 41, count) * (random.random(count) < 0.7)
    values = [int(v) for v in np.cumsum(steps) + random.integers(-500, 9000)]
    text = file(values, int(random.integers(200, 700)), 1 if number % 2 else 2, number % 3 != 0)
    read = jcamp.read(io.StringIO(text))
    assert np.allclose(read["y"], np.array(values) * 1e-4), number
    cases.append({"text": text, "x": [float(x) for x in read["x"]], "y": [float(y) for y in read["y"]]})
path = pathlib.Path(__file__).resolve().parents[2] / "crates/vaaka-formats/tests/data/jcamp.json"
path.parent.mkdir(parents=True, exist_ok=True)
path.write_text(json.dumps({"jcamp": jcamp.__version__ if hasattr(jcamp, "__version__") else "1.3.2", "cases": cases}) + "\n")
