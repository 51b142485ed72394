"""C from CasADi expressions, with everything that depends only on values and modes computed once.

The emitted functions are pure: no globals, no allocation. ``t`` time, ``x`` states, ``u`` inputs (held
controller outputs, then profile offsets, then slopes), ``h`` hoisted values.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from importlib import resources

import casadi as ca

from pendel.core.equations.context import Surface
from pendel.core.plant.compiler import PLAIN, UNIT

BINARY = {ca.OP_ADD: "({} + {})", ca.OP_SUB: "({} - {})", ca.OP_MUL: "({} * {})", ca.OP_DIV: "({} / {})", ca.OP_FMIN: "pd_min({}, {})",
          ca.OP_FMAX: "pd_max({}, {})", ca.OP_POW: "pow({}, {})", ca.OP_CONSTPOW: "pow({}, {})", ca.OP_ATAN2: "atan2({}, {})",
          ca.OP_LT: "(double)({} < {})", ca.OP_LE: "(double)({} <= {})", ca.OP_EQ: "(double)({} == {})", ca.OP_NE: "(double)({} != {})",
          ca.OP_AND: "(double)({} != 0 && {} != 0)", ca.OP_OR: "(double)({} != 0 || {} != 0)", ca.OP_IF_ELSE_ZERO: "({} != 0 ? {} : 0)",
          ca.OP_COPYSIGN: "copysign({}, {})", ca.OP_FMOD: "fmod({}, {})"}  # fmt: skip
UNARY = {ca.OP_ASSIGN: "{}", ca.OP_NEG: "(-{})", ca.OP_EXP: "exp({})", ca.OP_LOG: "log({})", ca.OP_SQRT: "sqrt({})", ca.OP_SQ: "({0} * {0})",
         ca.OP_TWICE: "(2 * {})", ca.OP_SIN: "sin({})", ca.OP_COS: "cos({})", ca.OP_TAN: "tan({})", ca.OP_ATAN: "atan({})", ca.OP_ASIN: "asin({})",
         ca.OP_ACOS: "acos({})", ca.OP_TANH: "tanh({})", ca.OP_SINH: "sinh({})", ca.OP_COSH: "cosh({})", ca.OP_FABS: "fabs({})",
         ca.OP_FLOOR: "floor({})", ca.OP_CEIL: "ceil({})", ca.OP_NOT: "(double)({} == 0)", ca.OP_INV: "(1 / {})",
         ca.OP_SIGN: "(double)(({0} > 0) - ({0} < 0))"}  # fmt: skip

SIGNATURE = "double t, const double *x, const double *u, const double *s, const double *p, const double *h"


def literal(value: float) -> str:
    text = repr(float(value))
    return text if "inf" not in text and "nan" not in text else "(0.0 / 0.0)"


LONG_HOIST = 1500
"""Lines."""
PREAMBLE = """#include <math.h>

static inline double pd_min(double a, double b) { return a < b ? a : b; }
static inline double pd_max(double a, double b) { return a > b ? a : b; }

"""


LOOPS = "pd_residuals"
NEWTON = """enum { MOST = 200 };

static double pd_norm(const double *r)
{
    double sum = 0;
    int k;
    for (k = 0; k < COUNT; k++) sum += r[k] * r[k];
    return sum;
}

/* Newton with partial pivoting; a step that does not improve is halved. Not-a-number tells that there is no solution. */
void pd_solve_loops(double t, const double *x, const double *u, const double *s, const double *p, const double *h, double *z)
{
    double *kept = (double *)h + FIRST, r[COUNT], a[COUNT * COUNT], step[COUNT], trial[COUNT], size;
    int i, j, k, round, halving;
    for (i = 0; i < COUNT; i++) z[i] = kept[i] == kept[i] ? kept[i] : 0;
    pd_residuals(t, x, u, s, p, h, z, r, a);
    size = pd_norm(r);
    for (round = 0; round < MOST; round++) {
        double largest = 0, before = size;
        for (i = 0; i < COUNT; i++) step[i] = -r[i];
        for (k = 0; k < COUNT; k++) {
            int best = k;
            for (i = k + 1; i < COUNT; i++) if (fabs(a[i + k * COUNT]) > fabs(a[best + k * COUNT])) best = i;
            if (best != k) {
                double swap = step[k];
                step[k] = step[best]; step[best] = swap;
                for (j = 0; j < COUNT; j++) { swap = a[k + j * COUNT]; a[k + j * COUNT] = a[best + j * COUNT]; a[best + j * COUNT] = swap; }
            }
            for (i = k + 1; i < COUNT; i++) {
                double f = a[i + k * COUNT] / a[k + k * COUNT];
                for (j = k; j < COUNT; j++) a[i + j * COUNT] -= f * a[k + j * COUNT];
                step[i] -= f * step[k];
            }
        }
        for (i = COUNT - 1; i >= 0; i--) {
            for (j = i + 1; j < COUNT; j++) step[i] -= a[i + j * COUNT] * step[j];
            step[i] /= a[i + i * COUNT];
        }
        for (halving = 0; halving < 30; halving++) {
            double share = ldexp(1.0, -halving), now;
            for (i = 0; i < COUNT; i++) trial[i] = z[i] + share * step[i];
            pd_residuals(t, x, u, s, p, h, trial, r, a);
            now = pd_norm(r);
            if (now <= size || now < 1e-28) { size = now; break; }
        }
        for (i = 0; i < COUNT; i++) {
            largest = fmax(largest, fabs(trial[i] - z[i]) / (1e-9 + fabs(trial[i])));
            z[i] = trial[i];
        }
        /* Rounding may keep a badly conditioned loop from the last digits: it is done when it stands still. */
        if (largest < 1e-11 || (round > 2 && largest < 1e-7 && size > 0.25 * before)) break;
        if (!(size == size)) break;
    }
    if (round == MOST) for (i = 0; i < COUNT; i++) z[i] = 0.0 / 0.0;
    for (i = 0; i < COUNT; i++) kept[i] = z[i];
}
"""


class Emitter:
    """Collects functions of one model and their common hoisting function."""

    def __init__(self, inputs: Mapping[str, ca.SX]):
        self.inputs = inputs
        """Symbols by array name: t, x, u, s, p."""
        self.n_loops = inputs["z"].numel() if "z" in inputs else 0
        self.n_surface = inputs["f"].numel() if "f" in inputs else 0
        self.hoisted: list[str] = []
        self.hoist_lines: list[str] = []
        self.parts: list[str] = []

    def function(self, name: str, outputs: Sequence[tuple[str, ca.SX]]) -> None:
        """Emit ``name`` that writes each of ``outputs`` (array name, dense expressions)."""
        kept = [(array, ca.densify(e)) for array, e in outputs if e.numel() > 0]
        keys = list(self.inputs)
        solves = (
            bool(self.n_loops) and any(ca.depends_on(e, self.inputs["z"]) for _, e in kept) and name != LOOPS
        )
        signature = f"void {name}({SIGNATURE}{''.join(f', double *{array}' for array, _ in outputs)})"
        quiet = "".join(f" (void){a};" for a in ("t", "x", "u", "s", "p", "h", *(a for a, _ in outputs)))
        body: list[str] = []
        if kept:
            function = ca.Function("f", [self.inputs[k] for k in keys], ca.cse([e for _, e in kept]))
            body = self.instructions(function, name, keys, [array for array, _ in kept])
        looks = bool(self.n_surface) and any(ca.depends_on(e, self.inputs["f"]) for _, e in kept)
        look = f"    double f[{self.n_surface}];\n    pd_surfaces(t, x, u, s, p, h, f);\n" if looks else ""
        solve = f"    double z[{self.n_loops}];\n    pd_solve_loops(t, x, u, s, p, h, z);\n" if solves else ""
        self.parts.append(signature + "\n{\n   " + quiet + "\n" + look + solve + "\n".join(body) + "\n}\n")

    def surfaces(self, surfaces: Sequence[Surface], places: ca.SX, first: int) -> None:
        """Emit the surfaces at their ``places`` (x and y of each); their numbers stand in ``p`` from ``first`` on."""
        self.parts.append(resources.files("pendel.core.plant").joinpath("surfaces.c").read_text("utf-8"))
        self.function("pd_places", [("at", places)])
        calls = []
        for k, surface in enumerate(surfaces):
            nx, ny = surface.cells
            calls.append(f"    surface(p + {first}, {nx}, {ny}, at[{2 * k}], at[{2 * k + 1}], f + {10 * k});")
            first += len(surface.numbers)
        self.parts.append(
            f"void pd_surfaces({SIGNATURE}, double *f)\n{{\n    double at[{2 * len(surfaces)}];\n"
            "    pd_places(t, x, u, s, p, h, at);\n" + "\n".join(calls) + "\n}\n"
        )

    def loops(self, residuals: ca.SX) -> None:
        """Emit the residuals of what has no safe symbolic solution, their Jacobian, and the Newton iteration over both.

        The last solution is kept behind the hoisted values, as the start of the next.
        """
        self.function(LOOPS, [("r", residuals), ("jac", ca.jacobian(residuals, self.inputs["z"]))])
        self.parts[-1] = self.parts[-1].replace(
            "double *r, double *jac)", "const double *z, double *r, double *jac)"
        )
        self.parts.append(NEWTON.replace("COUNT", str(self.n_loops)))

    def instructions(self, f: ca.Function, name: str, keys: list[str], arrays: list[str]) -> list[str]:
        """Walk the tape; each value becomes text that is hoisted when no time, state or input is in it."""
        work: dict[int, tuple[str, bool, bool]] = {}  # slot -> (text, depends on t/x/u, is trivial)
        body: list[str] = []
        hoisted_text: dict[str, str] = {}
        sums: dict[str, tuple[str, str, float, float]] = {}
        turns: list[tuple[int, int, str, str]] = []
        for k in range(f.n_instructions()):
            op, out, inp = f.instruction_id(k), f.instruction_output(k), f.instruction_input(k)
            if op == ca.OP_CONST:
                work[out[0]] = (literal(f.instruction_constant(k)), False, True)
            elif op == ca.OP_INPUT:
                key = keys[inp[0]]
                work[out[0]] = ("t" if key == "t" else f"{key}[{inp[1]}]", key in "txuzf", True)
            elif op == ca.OP_OUTPUT:
                text = self.moved(work[inp[0]], name, hoisted_text)
                body.append(f"    {arrays[out[0]]}[{out[1]}] = {text};")
            else:
                operands = [work[i] for i in inp]
                moving = any(o[1] for o in operands)
                texts = [self.moved(o, name, hoisted_text) if moving else o[0] for o in operands]
                form = BINARY[op] if op in BINARY else UNARY[op]
                if op == ca.OP_DIV and operands[0][1] and not operands[1][1]:
                    # Dividing by what only values and modes decide: multiply by the reciprocal, computed once.
                    form, texts[1] = "({} * {})", self.reciprocal(operands[1][0], name, k, hoisted_text)
                variable = f"{'v' if moving else 'c'}{k}"
                if moving and op in (ca.OP_SIN, ca.OP_COS):
                    turns.append((len(body), op, variable, texts[0]))
                    body.append("")
                elif moving:
                    body.append(f"    double {variable} = {form.format(*texts)};")
                    if op in (ca.OP_ADD, ca.OP_SUB) and operands[0][1] != operands[1][1]:
                        moves = 0 if operands[0][1] else 1
                        minus = -1.0 if op == ca.OP_SUB else 1.0
                        # variable = a·base + b·constant, with signs a and b
                        signs = (1.0, minus) if moves == 0 else (minus, 1.0)
                        sums[variable] = (texts[moves], operands[1 - moves][0], *signs)
                else:
                    self.hoist_lines.append(f"    double {name}_{variable} = {form.format(*texts)};")
                    variable = f"{name}_{variable}"
                work[out[0]] = (variable, moving, False)
        self.fill_in_trigonometry(body, turns, sums, name, hoisted_text)
        return body

    def fill_in_trigonometry(self, body: list[str], turns: Sequence[tuple[int, int, str, str]], sums: Mapping[str, tuple[str, str, float, float]],
                             name: str, known: dict[str, str]) -> None:  # fmt: skip
        """Write the sines and cosines. Angles that differ by a constant, as those of three phases do, share one pair."""
        plain = ("", 1.0, 1.0)
        uses: dict[str, int] = {}
        for _, _, _, angle in turns:
            base = sums[angle][0] if angle in sums else angle
            uses[base] = uses.get(base, 0) + 1
        paired: set[str] = set()
        for place, op, variable, angle in turns:
            base, constant, a, b = sums.get(angle, (angle, *plain))
            function = "sin" if op == ca.OP_SIN else "cos"
            if uses[base] == 1:
                body[place] = f"    double {variable} = {function}({angle});"
                continue
            pair = base.replace("[", "_").replace("]", "")
            if pair not in paired:
                paired.add(pair)
                body[place] = f"    double sn_{pair} = sin({base}), cs_{pair} = cos({base});\n"
            sine, cosine = f"sn_{pair}" if a > 0 else f"-sn_{pair}", f"cs_{pair}"
            text = sine if function == "sin" else cosine
            if constant:
                s, c = (self.turned_by(f, variable, constant, b, name, known) for f in ("sin", "cos"))
                text = f"{sine} * {c} + {cosine} * {s}" if function == "sin" else f"{cosine} * {c} - ({sine}) * {s}"  # fmt: skip
            body[place] += f"    double {variable} = {text};"

    def turned_by(self, function: str, variable: str, constant: str, sign: float, name: str, known: dict[str, str]) -> str:  # fmt: skip
        """Sine or cosine of a constant angle, computed with the values."""
        shift = f"{name}_{function}_{variable}"
        self.hoist_lines.append(f"    double {shift} = {function}({'-' if sign < 0 else ''}({constant}));")
        return self.moved((shift, False, False), name, known)

    def reciprocal(self, divisor: str, name: str, k: int, known: dict[str, str]) -> str:
        variable = f"{name}_r{k}"
        self.hoist_lines.append(f"    double {variable} = 1 / {divisor};")
        return self.moved((variable, False, False), name, known)

    def moved(self, value: tuple[str, bool, bool], name: str, known: dict[str, str]) -> str:
        """Text of a value inside a function body: a hoisted one is read from ``h``."""
        text, moving, trivial = value
        if moving or trivial:
            return text
        if text not in known:
            known[text] = f"h[{len(self.hoisted)}]"
            self.hoist_lines.append(f"    h[{len(self.hoisted)}] = {text};")
            self.hoisted.append(text)
        return known[text]

    def source(self) -> str:
        hoist = (
            "void pd_hoist(const double *p, const double *s, double *h)\n{\n    (void)p; (void)s; (void)h;\n"
            + "\n".join(self.hoist_lines)
            + "\n}\n"
        )
        # Computed once for each set of modes, a long one is worth little optimisation, and compiles beside the rest.
        apart = f"{UNIT}{PREAMBLE}" if len(self.hoist_lines) > LONG_HOIST else ""
        return (
            (PLAIN if apart else "")
            + PREAMBLE
            + hoist
            + "\n"
            + apart
            + "\n".join(self.parts).replace("FIRST", str(len(self.hoisted)))
            + f"\nint pd_hoisted(void) {{ return {len(self.hoisted) + self.n_loops}; }}\n"
        )
