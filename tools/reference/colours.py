#!/usr/bin/env python3
"""Colour differences with the package colour-science, for crates/vaaka-core/tests/data/colours.json.

Run:  python3 -m venv .venv && .venv/bin/pip install colour-science scipy && .venv/bin/python tools/reference/colours.py

The pairs of Sharma, Wu and Dalal (2005), table 1, are from memory; their differences are computed here, and those of the paper that
are remembered are compared with them in the script. The other pairs are drawn at random, near grey and on both sides of hue 0.
"""

import json
import pathlib

import colour
import numpy as np

# L1 a1 b1 L2 a2 b2 and the difference of the paper.
SHARMA = """
50 2.6772 -79.7751 50 0 -82.7485 2.0425
50 3.1571 -77.2803 50 0 -82.7485 2.8615
50 2.8361 -74.0200 50 0 -82.7485 3.4412
50 -1.3802 -84.2814 50 0 -82.7485 1.0000
50 -1.1848 -84.8006 50 0 -82.7485 1.0000
50 -0.9009 -85.5211 50 0 -82.7485 1.0000
50 0 0 50 -1 2 2.3669
50 -1 2 50 0 0 2.3669
50 2.4900 -0.0010 50 -2.4900 0.0009 7.1792
50 2.4900 -0.0010 50 -2.4900 0.0010 7.1792
50 2.4900 -0.0010 50 -2.4900 0.0011 7.2195
50 2.4900 -0.0010 50 -2.4900 0.0012 7.2195
50 -0.0010 2.4900 50 0.0009 -2.4900 4.8045
50 -0.0010 2.4900 50 0.0010 -2.4900 4.8045
50 -0.0010 2.4900 50 0.0011 -2.4900 4.7461
50 2.5 0 50 0 -2.5 4.3065
50 2.5 0 73 25 -18 27.1492
50 2.5 0 61 -5 29 22.8977
50 2.5 0 56 -27 -3 31.9030
50 2.5 0 58 24 15 19.4535
50 2.5 0 50 3.1736 0.5854 1.0000
50 2.5 0 50 3.2972 0 1.0000
50 2.5 0 50 1.8634 0.5757 1.0000
50 2.5 0 50 3.2592 0.3350 1.0000
60.2574 -34.0099 36.2677 60.4626 -34.1751 39.4387 1.2644
63.0109 -31.0961 -5.8663 62.8187 -29.7946 -4.0864 1.2630
61.2901 3.7196 -5.3901 61.4292 2.2480 -4.9620 1.8731
35.0831 -44.1164 3.7933 35.0232 -40.0716 1.5901 1.8645
22.7233 20.0904 -46.6940 23.0331 14.9730 -42.5619 2.0373
36.4612 47.8580 18.3852 36.2715 50.5065 21.2231 1.4146
90.8027 -2.0831 1.4410 91.1528 -1.6435 0.0447 1.4441
90.9257 -0.5406 -0.9208 88.6381 -0.8985 -0.7239 1.5381
6.7747 -0.2908 -2.4247 5.8714 -0.0985 -2.2286 0.6377
2.0776 0.0795 -1.1350 0.9033 -0.0636 -0.5514 0.9082
"""

rng = np.random.default_rng(20)
pairs = [[float(word) for word in line.split()] for line in SHARMA.strip().splitlines()]
for number in range(120):
    one = np.array([rng.uniform(2, 98), rng.normal(0, 40), rng.normal(0, 40)])
    if number % 3 == 0:
        one[1:] *= 0.02
    other = one + rng.normal(0, [3, 6, 6])
    other[0] = min(max(other[0], 0.5), 100)
    if number % 4 == 0:
        # Just above and just below hue 0.
        one[2], other[2] = abs(one[2]) * 0.05, -abs(other[2]) * 0.05
    pairs.append([*np.round(one, 4), *np.round(other, 4), None])

cases = []
for *values, paper in pairs:
    one, other = np.array(values[:3]), np.array(values[3:])
    difference = lambda method, **more: float(colour.delta_E(one, other, method=method, **more))
    cie_2000 = difference("CIE 2000")
    if paper is not None:
        assert abs(cie_2000 - paper) < 1e-4, (values, cie_2000, paper)
    cases.append(
        {
            "reference": [float(v) for v in one],
            "sample": [float(v) for v in other],
            "cie_1976": difference("CIE 1976"),
            "cie_1994": difference("CIE 1994"),
            "cie_2000": cie_2000,
            "textiles_2000": difference("CIE 2000", textiles=True),
        }
    )

whites = {"D65, 10 degrees": [0.94811, 1.0, 1.07304], "A, 2 degrees": [1.09850, 1.0, 0.35585]}
labs = []
for name, white in whites.items():
    white = np.array(white)
    for _ in range(20):
        xyz = np.round(white * rng.uniform(0.0005, 1.05, 3), 6)
        lab = colour.XYZ_to_Lab(xyz, colour.XYZ_to_xy(white))
        # The package scales its white to Y = 1, as these are.
        labs.append({"xyz": xyz.tolist(), "white": white.tolist(), "lab": [float(v) for v in lab]})

path = pathlib.Path(__file__).parents[2] / "crates/vaaka-core/tests/data/colours.json"
path.write_text(json.dumps({"differences": cases, "labs": labs}, indent=1) + "\n")
print(len(cases), "pairs,", len(labs), "colours")
