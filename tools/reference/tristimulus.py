#!/usr/bin/env python3
"""Weights for tristimulus values, and values by them, with the package colour-science.

Run:  python3 -m venv .venv && .venv/bin/pip install colour-science && .venv/bin/python tools/reference/tristimulus.py

Writes crates/vaaka-core/src/colour/weights.rs (weights at 10 nm from 360 to 780 nm by the method of ASTM E2022, by which the tables of
ASTM E308 were made, of the CIE observers and illuminants) and crates/vaaka-core/tests/data/tristimulus.json (random reflectances at 10 nm with
the values that colour-science computes of them by ASTM E308 by its own way, at 1 nm from interpolated spectra, for comparison).
"""

import json
import pathlib
import warnings

import colour
import numpy as np

warnings.filterwarnings("ignore")
root = pathlib.Path(__file__).resolve().parents[2]
shape = colour.SpectralShape(360, 780, 10)
OBSERVERS = {"Two": "CIE 1931 2 Degree Standard Observer", "Ten": "CIE 1964 10 Degree Standard Observer"}
ILLUMINANTS = ["D65", "D50", "A"]

lines = [
    "//! Weights of reflectances at 10 nm from 360 to 780 nm for X, Y and Z (ASTM E2022, the method behind the tables of ASTM E308), of CIE",
    "//! observers and illuminants. Written by `tools/reference/tristimulus.py`; Y of a perfect white is 100.",
    "",
    "/// X, Y and Z at one wavelength.",
    "type Weight = [f64; 3];",
    "",
    "/// First wavelength, nm.",
    "pub const FROM: usize = 360;",
    "/// Step, nm.",
    "pub const STEP: usize = 10;",
    "/// Count of wavelengths.",
    "pub const COUNT: usize = 43;",
]
weights = {}
for name, observer in OBSERVERS.items():
    cmfs = colour.MSDS_CMFS[observer].copy().align(colour.SpectralShape(360, 780, 1))
    for illuminant in ILLUMINANTS:
        sd = colour.SDS_ILLUMINANTS[illuminant].copy().align(colour.SpectralShape(360, 780, 1))
        w = colour.colorimetry.tristimulus_weighting_factors_ASTME2022(cmfs, sd, shape)
        weights[name, illuminant] = w
        lines.append("")
        lines.append(f"/// {illuminant}, {observer}.")
        lines.append(f"pub const {illuminant}_{name.upper()}: [Weight; COUNT] = [")
        lines += ["    [" + ", ".join(f"{v:.6}".rstrip("0") + ("0" if f"{v:.6}".rstrip("0").endswith(".") else "") for v in np.round(row, 6)) + "]," for row in w]
        lines.append("];")
(root / "crates/vaaka-core/src/colour/weights.rs").write_text("\n".join(lines) + "\n")

random = np.random.default_rng(20)
cases = []
for number in range(12):
    x = np.linspace(0, 1, 43)
    centre, width = random.uniform(0, 1), random.uniform(0.1, 0.6)
    reflectance = np.round(random.uniform(0.03, 0.3) + random.uniform(0.1, 0.6) * np.exp(-(((x - centre) / width) ** 2)), 4)
    case = {"reflectance": reflectance.tolist(), "xyz": {}}
    spectrum = colour.SpectralDistribution(dict(zip(range(360, 790, 10), reflectance)))
    for name, observer in OBSERVERS.items():
        cmfs = colour.MSDS_CMFS[observer]
        for illuminant in ILLUMINANTS:
            xyz = colour.sd_to_XYZ(spectrum, cmfs, colour.SDS_ILLUMINANTS[illuminant], method="Integration" if number % 2 else "ASTM E308")
            case["xyz"][f"{illuminant}_{name.upper()}"] = np.asarray(xyz).tolist()
    cases.append(case)
(root / "crates/vaaka-core/tests/data/tristimulus.json").write_text(json.dumps({"colour": colour.__version__, "cases": cases}) + "\n")
