"""Corrections of network analyzers by scikit-rf, for crates/vaaka-core/tests/rules/network.rs.

    python tools/reference/network.py > crates/vaaka-core/tests/data/network.json

Error boxes are drawn at random (seeded), measured sweeps are made of them by joining networks, with noise on some; scikit-rf corrects
them by its own calibrations. Needs scikit-rf and NumPy.
"""

import json
import warnings

import numpy
import skrf
from skrf.calibration import LRM, TRL, OnePort, TwelveTerm, terminate
from skrf.media import DefinedGammaZ0

warnings.filterwarnings("ignore")
random = numpy.random.default_rng(20261128)
frequency = skrf.Frequency(0.5, 6.0, 12, "ghz")
hertz = frequency.f
N = len(hertz)
air = DefinedGammaZ0(frequency, z0=50, gamma=1j * 2 * numpy.pi * hertz / 299_792_458.0)


def pairs(values):
    return [[float(v.real), float(v.imag)] for v in numpy.asarray(values).ravel()]


def two(network):
    s = network.s
    return {"s11": pairs(s[:, 0, 0]), "s21": pairs(s[:, 1, 0]), "s12": pairs(s[:, 0, 1]), "s22": pairs(s[:, 1, 1])}


def one(network):
    return pairs(network.s[:, 0, 0])


def smooth(size, around=0.0):
    """A complex number that turns slowly over the frequency."""
    a, b = random.normal(size=2) + 1j * random.normal(size=2)
    x = numpy.linspace(0, 1, N)
    return around + size * (a + b * x) / 2 * numpy.exp(-1j * 4 * x * random.random())


def box(name):
    s = numpy.zeros((N, 2, 2), complex)
    s[:, 0, 0], s[:, 1, 1] = smooth(0.06), smooth(0.12)
    through = smooth(0.08, 0.92) * numpy.exp(-1j * 2 * numpy.pi * hertz * 40e-12)
    s[:, 1, 0] = s[:, 0, 1] = through
    return skrf.Network(frequency=frequency, s=s, z0=50, name=name)


def noisy(network, size):
    other = network.copy()
    other.s = network.s + size * (random.normal(size=network.s.shape) + 1j * random.normal(size=network.s.shape))
    return other


def kit_response(kind, numbers, delay, loss, impedance):
    """A standard by its model, its line as a medium with loss and impedance of its own."""
    omega, root = 2 * numpy.pi * hertz, numpy.sqrt(hertz / 1e9)
    alpha = loss * delay / (2 * impedance) * root
    gamma = alpha + 1j * (omega * delay + alpha)
    z = impedance + (1 - 1j) * loss / (2 * omega) * root
    medium = DefinedGammaZ0(frequency, z0=z, gamma=gamma)
    coefficient = sum(c * hertz**n for n, c in enumerate(numbers))
    if kind == "open":
        end = 1 / (1j * omega * coefficient)
    elif kind == "short":
        end = 1j * omega * coefficient
    else:
        resistance, inductance, capacitance = numbers
        series = resistance + 1j * omega * inductance
        end = 1 / (1 / series + 1j * omega * capacitance)
    ended = skrf.Network(frequency=frequency, z0=50, s=((end - 50) / (end + 50)).reshape(N, 1, 1))
    line = medium.line(1, "m", z0=z)
    line.renormalize(50)
    return line**ended


kit = [
    {"kind": "open", "numbers": [48e-15, -310e-27, 21e-36, -0.16e-45], "delay": 29.1e-12, "loss": 2.1e9, "impedance": 50.0},
    {"kind": "short", "numbers": [2.0e-12, -110e-24, 2.3e-33, -0.012e-42], "delay": 31.7e-12, "loss": 2.3e9, "impedance": 50.0},
    {"kind": "load", "numbers": [50.4, 6.0e-12, 9.0e-15], "delay": 4.0e-12, "loss": 1.1e9, "impedance": 50.5},
    {"kind": "open", "numbers": [60e-15, 0.0, 0.0, 0.0], "delay": 12e-12, "loss": 0.0, "impedance": 75.0},
]
networks = [kit_response(**standard) for standard in kit]
for standard, network in zip(kit, networks):
    standard["reflection"] = one(network)

piece = skrf.Network(frequency=frequency, z0=50, s=numpy.stack([
    numpy.stack([smooth(0.2, 0.1), smooth(0.05, 0.6)], -1), numpy.stack([smooth(0.05, 0.55), smooth(0.2, -0.1)], -1)
], -2))

# One port: three standards, and five with noise.
left, right = box("x"), box("y")
more = [air.load(0.4 + 0.1j), air.load(-0.3 + 0.5j)]
one_port = []
for standards, noise in [(networks[:3], 0.0), (networks[:3] + more, 2e-3)]:
    measured = [noisy(left**standard, noise) for standard in standards]
    calibration = OnePort(ideals=standards, measured=measured)
    calibration.run()
    reflected = air.load(0.2 - 0.35j)
    raw = noisy(left**reflected, noise)
    terms = calibration.coefs
    one_port.append({
        "ideals": [one(standard) for standard in standards],
        "measured": [one(sweep) for sweep in measured],
        "directivity": pairs(terms["directivity"]),
        "source_match": pairs(terms["source match"]),
        "tracking": pairs(terms["reflection tracking"]),
        "raw": one(raw),
        "corrected": one(calibration.apply_cal(raw)),
    })


def both(first, second):
    return skrf.network.two_port_reflect(first, second)


# Two ports: twelve terms, with crosstalk, ports that match otherwise when they do not drive, and a thru with a length.
switch = [skrf.Network(frequency=frequency, z0=50, s=smooth(0.08).reshape(N, 1, 1)) for _ in range(2)]
crosstalk = [smooth(1e-3), smooth(1e-3)]


def raw_of(network, noise=0.0):
    seen = terminate(left**network**right.flipped(), *switch)
    seen.s[:, 1, 0] += crosstalk[0]
    seen.s[:, 0, 1] += crosstalk[1]
    return noisy(seen, noise)


twelve = []
for thru, isolated in [(air.thru(), False), (air.line(8, "mm") ** skrf.Network(frequency=frequency, z0=50, s=numpy.tile([[0.02, 0.97], [0.97, 0.03]], (N, 1, 1)).astype(complex)), True)]:
    ideals = [both(standard, standard) for standard in networks[:3]] + [thru]
    measured = [raw_of(network) for network in ideals]
    isolation = raw_of(both(air.match(), air.match())) if isolated else None
    calibration = TwelveTerm(ideals=ideals, measured=measured, n_thrus=1, isolation=isolation)
    calibration.run()
    raw = raw_of(piece)
    twelve.append({
        "ideals": [one(standard) for standard in networks[:3]],
        "thru": two(thru),
        "measured": [two(sweep) for sweep in measured],
        "isolation": two(isolation) if isolated else None,
        "raw": two(raw),
        "corrected": two(calibration.apply_cal(raw)),
        "piece": two(piece),
    })


def through(network):
    return left**network**right.flipped()


reflect = air.load(-0.97 * numpy.exp(0.15j))
line = air.line(9, "mm")
ideals = [air.thru(), both(reflect, reflect), line]
measured = [through(network) for network in ideals]
calibration = TRL(measured=measured, ideals=[air.thru(), both(air.short(), air.short()), line], n_reflects=1, estimate_line=True)
calibration.run()
raw = noisy(through(piece), 1e-4)
trl = {
    "thru": two(measured[0]), "reflect": two(measured[1]), "line": two(measured[2]), "raw": two(raw),
    "corrected": two(calibration.apply_cal(raw)), "reflected": one(reflect), "factor": pairs(line.s[:, 1, 0]),
}

match = networks[2]
opened = air.load(0.96 * numpy.exp(-0.3j))
ideals = [air.thru(), both(opened, opened), both(match, match)]
measured = [through(network) for network in ideals]
calibration = LRM(measured=measured, ideals=[air.thru(), both(air.open(), air.open()), both(match, match)])
calibration.run()
lrm = {
    "thru": two(measured[0]), "reflect": two(measured[1]), "match": two(measured[2]), "of_match": one(match),
    "raw": two(raw), "corrected": two(calibration.apply_cal(raw)), "reflected": one(opened),
}

renormalized = piece.copy()
renormalized.renormalize([75.0, 30.0])
print(json.dumps({
    "scikit-rf": skrf.__version__, "numpy": numpy.__version__, "frequencies": [float(f) for f in hertz],
    "kit": kit, "one_port": one_port, "twelve": twelve, "trl": trl, "lrm": lrm,
    "piece": two(piece), "renormalized": two(renormalized), "left": two(left), "right": two(right.flipped()),
    "joined": two(through(piece)), "passivity": [float(numpy.linalg.svd(s, compute_uv=False).max()) for s in piece.s],
}))
