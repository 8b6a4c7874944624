#!/usr/bin/env python3
"""Run lengths by another way than the program's: collocation with Chebyshev polynomials and SciPy's erfc.

Writes crates/vaaka-core/tests/data/run_lengths.json, which the Cargo tests read.
Run:  python3 -m venv .venv && .venv/bin/pip install scipy && .venv/bin/python tools/reference/run_lengths.py

The program carries the law of the run length forward, point by point. Here the average L(z) and the second
moment M(z) from a state z are solved backward, L = 1 + K L and M = 1 + 2 K L + K M, as coefficients of Chebyshev
polynomials, each row integrated by its own Gauss-Legendre rule between the ends that the limits leave.
 * EWMA, alone or with limits, with steady limits and with the exact ones of the first points.
 * Cumulative sums on one side, with and without a head start; on both by a chain over pairs of sums.
 * In-control and after steps, over the range that the forms of the application accept.
"""
import json
import math
import pathlib

import numpy as np
import scipy
from numpy.polynomial import chebyshev
from scipy.special import ndtr

GAUSS = np.polynomial.legendre.leggauss(160)
MOST = 1e8


def phi(x):
    return np.exp(-0.5 * x * x) / math.sqrt(2 * math.pi)


class Ewma:
    def __init__(self, lam, width, limit, shift):
        self.lam, self.width, self.limit, self.shift = lam, width, limit, shift

    def edge(self, i=None):
        lam = self.lam
        left = 1.0 if i is None else 1.0 - (1 - lam) ** (2 * i)
        return self.width * math.sqrt(lam / (2 - lam) * left)

    def rows(self, z, edge, n):
        """For each z the integrals of the basis polynomials of the next state."""
        lam = self.lam
        out = np.empty((len(z), n))
        for k, from_ in enumerate(z):
            kept = (1 - lam) * from_
            low = max((-edge - kept) / lam, -self.limit, self.shift - 9.5)
            high = min((edge - kept) / lam, self.limit, self.shift + 9.5)
            if low >= high:
                out[k] = 0
                continue
            x = (low + high) / 2 + (high - low) / 2 * GAUSS[0]
            w = (high - low) / 2 * GAUSS[1] * phi(x - self.shift)
            out[k] = w @ chebyshev.chebvander((kept + lam * x) / edge, n - 1)
        return out

    def steady(self):
        edge = self.edge()
        n = int(40 + 3.2 * edge / self.lam)
        # Where limits cut the kernel L has kinks, and one polynomial over all of it comes close more slowly.
        if self.limit < 9:
            n = min(4 * n, 360)
        u = np.cos(math.pi * (np.arange(n) + 0.5) / n)
        basis = chebyshev.chebvander(u, n - 1)
        rows = self.rows(u * edge, edge, n)
        c = np.linalg.solve(basis - rows, np.ones(n))
        m = np.linalg.solve(basis - rows, np.ones(n) + 2 * rows @ c)
        return n, u, basis, c, m

    def from_zero(self, exact):
        n, u, basis, c, m = self.steady()
        if not exact:
            row = self.rows([0.0], self.edge(), n)[0]
            return 1 + row @ c, 1 + 2 * row @ c + row @ m
        inverse = np.linalg.inv(basis)
        # From there on the limits are steady to the sixth digit.
        last = min(int(math.log(1e-6) / (2 * math.log(1 - self.lam))) + 2, 3000) if self.lam < 1 else 2
        for i in range(last, 0, -1):
            z = u * self.edge(i) if i > 0 else np.array([0.0])
            rows = self.rows(z, self.edge(i + 1), n)
            values, seconds = 1 + rows @ c, 1 + 2 * rows @ c + rows @ m
            c, m = inverse @ values, inverse @ seconds
        row = self.rows([0.0], self.edge(1), n)[0]
        return 1 + row @ c, 1 + 2 * row @ c + row @ m


def one_sum(k, h, shift, start):
    n = int(40 + 3.2 * h)
    u = np.cos(math.pi * (np.arange(n) + 0.5) / n)
    s = (u + 1) / 2 * h
    states = np.concatenate([[0.0], s, [start]])
    rows = np.empty((len(states), n + 1))
    for index, from_ in enumerate(states):
        low, high = max(0.0, from_ + shift - k - 9.5), min(h, from_ + shift - k + 9.5)
        rows[index, 0] = ndtr(k - from_ - shift)
        if low >= high:
            rows[index, 1:] = 0
            continue
        y = (low + high) / 2 + (high - low) / 2 * GAUSS[0]
        w = (high - low) / 2 * GAUSS[1] * phi(y + k - from_ - shift)
        rows[index, 1:] = w @ chebyshev.chebvander(2 * y / h - 1, n - 1)
    basis = np.zeros((n + 1, n + 1))
    basis[0, 0] = 1
    basis[1:, 1:] = chebyshev.chebvander(u, n - 1)
    c = np.linalg.solve(basis - rows[:-1], np.ones(n + 1))
    m = np.linalg.solve(basis - rows[:-1], np.ones(n + 1) + 2 * rows[:-1] @ c)
    return 1 + rows[-1] @ c, 1 + 2 * rows[-1] @ c + rows[-1] @ m


def both_sums(k, h, shift, start, cells):
    """A chain over pairs of sums; only pairs that one point reaches. Right to a share of 1/cells squared."""
    step = h / (cells - 0.5)
    middle = lambda i: i * step
    places, order = {}, []

    def place(pair):
        if pair not in places:
            places[pair] = len(order)
            order.append(pair)
        return places[pair]

    first = (round(start / step), round(start / step))
    place(first)
    triples = []
    at = 0
    while at < len(order):
        up, down = order[at]
        # Ends of the cells of either sum as ends of the point x.
        marks = {-40.0, 40.0}
        for i in range(cells):
            marks.add((i + 0.5) * step - middle(up) + k)
            marks.add(-((i + 0.5) * step - middle(down) + k))
        marks = sorted(x for x in marks if -40 <= x <= 40)
        for a, b in zip(marks, marks[1:]):
            p = ndtr(b - shift) - ndtr(a - shift)
            if p < 1e-18:
                continue
            x = (a + b) / 2
            i = max(0, math.floor((middle(up) + x - k) / step + 0.5))
            j = max(0, math.floor((middle(down) - x - k) / step + 0.5))
            if i < cells and j < cells:
                triples.append((at, place((i, j)), p))
        at += 1
    n = len(order)
    from scipy.sparse import coo_matrix, identity
    from scipy.sparse.linalg import spsolve
    r, c, p = zip(*triples)
    q = coo_matrix((p, (r, c)), shape=(n, n)).tocsc()
    a = (identity(n) - q).tocsc()
    first_moment = spsolve(a, np.ones(n))
    second = spsolve(a, np.ones(n) + 2 * q @ first_moment)
    # The median by going on until half is over.
    here, alive, median = np.zeros(n), 1.0, 0
    here[0] = 1.0
    while alive > 0.5:
        here = q.T @ here
        alive = here.sum()
        median += 1
    return first_moment[0], second[0], median


def main():
    ewma, sums, pairs = [], [], []
    for lam in (0.01, 0.05, 0.1, 0.25, 0.6, 1.0):
        for width in (1.5, 2.5, 3.1, 4.0, 5.0):
            for limit in (None, 2.5, 3.25, 4.5):
                for shift in (0.0, 0.5, 2.0):
                    if shift == 0.5 and width in (1.5, 4.0):
                        continue
                    chart = Ewma(lam, width, limit or 60.0, shift)
                    # Backward through hundreds of first points only where few nodes do.
                    for exact in (False, True) if lam >= 0.1 and (not limit or width == 3.1) else (False,):
                        # Slow averages between cutting limits would need more nodes than this way can take.
                        if limit and lam < 0.05:
                            continue
                        first, second = chart.from_zero(exact)
                        if not 1 <= first < MOST:
                            continue
                        ewma.append(dict(lam=lam, width=width, limit=limit, shift=shift, exact=exact,
                                         average=first, std_dev=math.sqrt(max(second - first * first, 0))))
    # The first points of slow averages, a few.
    for lam, width, limit, shift in ((0.05, 3.1, 3.25, 0.0), (0.05, 2.5, None, 0.0), (0.02, 2.5, 3.25, 0.0)):
        first, second = Ewma(lam, width, limit or 60.0, shift).from_zero(True)
        ewma.append(dict(lam=lam, width=width, limit=limit, shift=shift, exact=True,
                         average=first, std_dev=math.sqrt(second - first * first)))
    # Found wrong once: a narrow average alone.
    first, second = Ewma(0.003, 3.1, 60.0, 0.0).from_zero(False)
    ewma.append(dict(lam=0.003, width=3.1, limit=None, shift=0.0, exact=False,
                     average=first, std_dev=math.sqrt(second - first * first)))
    for k in (0.0, 0.25, 0.5, 1.0):
        for h in (1.0, 3.0, 4.77, 8.0, 20.0, 50.0):
            for share in (0.0, 0.5):
                for shift in (0.0, 0.5, 1.0, 3.0):
                    first, second = one_sum(k, h, shift, share * h)
                    if 1 <= first < MOST:
                        sums.append(dict(k=k, h=h, head_start=share * h, shift=shift, average=first,
                                         std_dev=math.sqrt(max(second - first * first, 0))))
    for k, h, share, shift in ((0.5, 4.0, 0.0, 0.0), (0.5, 4.0, 0.5, 0.0), (0.5, 4.77, 0.0, 0.5), (0.25, 5.0, 0.5, 0.25)):
        # Two sizes of cells, taken together so that the error of their width drops out.
        few, many = both_sums(k, h, shift, share * h, 40), both_sums(k, h, shift, share * h, 80)
        out = [(4 * b - a) / 3 for a, b in zip(few, many)]
        pairs.append(dict(k=k, h=h, head_start=share * h, shift=shift, average=out[0],
                          std_dev=math.sqrt(out[1] - out[0] ** 2), median=many[2]))
    tails = [dict(z=z, tail=float(scipy.stats.norm.sf(z))) for z in (0.5, 1.0, 2.5, 3.25, 6.0, 9.0, 20.0, 37.0)]
    out = dict(made_by=f"tools/reference/run_lengths.py, SciPy {scipy.__version__}, NumPy {np.__version__}",
               ewma=ewma, one_sum=sums, both_sums=pairs, tails=tails)
    target = pathlib.Path(__file__).parents[2] / "crates/vaaka-core/tests/data/run_lengths.json"
    target.write_text(json.dumps(out, indent=0) + "\n")
    print(target, len(ewma), len(sums), len(pairs))


if __name__ == "__main__":
    import scipy.stats

    main()
