"""Looks at linear models with python-control and slycot, in the environment of the other programs:
``second_algebra.py MODELS.npz RESULT.json``."""

import json
import sys

import control
import numpy as np
import slycot


def looked_at(A, B, C, D, dt, omega, around):
    """Order of a minimal realisation by SLICOT's TB01PD, at several tolerances, and its response; of a way that comes
    back to where it began, margins and the peak of S (AB13DD, which searches no grid)."""
    n = len(A)
    found = {"orders": {}}
    for tolerance in (0.0, 1e-12, 1e-10, 1e-8):
        a, b, c, order = slycot.tb01pd(n, 1, 1, A.copy(), B.copy(), C.copy(), job="M", equil="S", tol=tolerance)
        found["orders"][str(tolerance)] = int(order)
        small = control.ss(a[:order, :order], b[:order], c[:, :order], D, dt)
        y = small(np.exp(1j * omega * dt) if dt else 1j * omega)
        found.setdefault("responses", {})[str(tolerance)] = [[float(z.real), float(z.imag)] for z in np.atleast_1d(y)]
    if around:
        a, b, c, order = slycot.tb01pd(n, 1, 1, A.copy(), B.copy(), C.copy(), job="M", equil="S", tol=1e-10)
        L = -control.ss(a[:order, :order], b[:order], c[:, :order], D, dt)
        # From responses, not from polynomials: of order 17 these lost their digits (|L| = 1.04 at "its crossover").
        last = 0.4999 / dt * 2 * np.pi if dt else omega[-1]
        dense = control.frd(L, np.geomspace(omega[0], last, 6000))
        gain, phase, _, _, crossover, _ = control.stability_margins(dense)
        S = control.feedback(control.ss([], [], [], [[1.0]], dt), L)
        peak, _ = control.linfnorm(S)
        found["loop"] = [float(gain), float(phase), float(crossover) / (2 * np.pi), float(peak)]
    return found


def main():
    with np.load(sys.argv[1]) as models:
        names = sorted({key.split("|")[0] for key in models.files})
        result = {
            name: looked_at(
                *(models[f"{name}|{part}"] for part in "ABCD"),
                float(models[f"{name}|dt"]),
                models[f"{name}|omega"],
                bool(models[f"{name}|around"]),
            )
            for name in names
        }
    with open(sys.argv[2], "w") as file:
        json.dump(result, file)


if __name__ == "__main__":
    main()
