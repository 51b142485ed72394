"""C from CasADi expressions, with everything that depends only on values and modes computed once.

The emitted functions are pure: no globals, no allocation. ``t`` time, ``x`` states, ``u`` inputs (held
controller outputs, then profile offsets, then slopes), ``h`` hoisted values.
"""

from __future__ import annotations

import itertools
from collections.abc import Mapping, Sequence, Set
from importlib import resources
from typing import NamedTuple

import casadi as ca

from pendel.core.equations.context import Surface
from pendel.core.plant.compiler import PLAIN, UNIT
from pendel.core.plant.pieces import function_of

BINARY = {
    ca.OP_ADD: "({} + {})",
    ca.OP_SUB: "({} - {})",
    ca.OP_MUL: "({} * {})",
    ca.OP_DIV: "({} / {})",
    ca.OP_FMIN: "pd_min({}, {})",
    ca.OP_FMAX: "pd_max({}, {})",
    ca.OP_POW: "pow({}, {})",
    ca.OP_CONSTPOW: "pow({}, {})",
    ca.OP_ATAN2: "atan2({}, {})",
    ca.OP_LT: "(double)({} < {})",
    ca.OP_LE: "(double)({} <= {})",
    ca.OP_EQ: "(double)({} == {})",
    ca.OP_NE: "(double)({} != {})",
    ca.OP_AND: "(double)({} != 0 && {} != 0)",
    ca.OP_OR: "(double)({} != 0 || {} != 0)",
    ca.OP_IF_ELSE_ZERO: "({} != 0 ? {} : 0)",
    ca.OP_COPYSIGN: "copysign({}, {})",
    ca.OP_FMOD: "fmod({}, {})",
}
UNARY = {
    ca.OP_ASSIGN: "{}",
    ca.OP_NEG: "(-{})",
    ca.OP_EXP: "exp({})",
    ca.OP_LOG: "log({})",
    ca.OP_SQRT: "sqrt({})",
    ca.OP_SQ: "({0} * {0})",
    ca.OP_TWICE: "(2 * {})",
    ca.OP_SIN: "sin({})",
    ca.OP_COS: "cos({})",
    ca.OP_TAN: "tan({})",
    ca.OP_ATAN: "atan({})",
    ca.OP_ASIN: "asin({})",
    ca.OP_ACOS: "acos({})",
    ca.OP_TANH: "tanh({})",
    ca.OP_SINH: "sinh({})",
    ca.OP_COSH: "cosh({})",
    ca.OP_FABS: "fabs({})",
    ca.OP_FLOOR: "floor({})",
    ca.OP_CEIL: "ceil({})",
    ca.OP_NOT: "(double)({} == 0)",
    ca.OP_INV: "(1 / {})",
    ca.OP_SIGN: "(double)(({0} > 0) - ({0} < 0))",
}

FORMS = BINARY | UNARY
MOVES = frozenset("txuzf")
"""Arrays whose entries change within a run without a change of modes."""
SIGNATURE = "double t, const double *x, const double *u, const double *s, const double *p, const double *h"


def literal(value: float) -> str:
    text = repr(float(value))
    if "inf" in text or "nan" in text:
        return "(0.0 / 0.0)"
    return f"({text})" if value < 0 else text


CALLED_ALONE = {"pd_hoist": PLAIN, "pd_jac": "", "pd_hold": "", "pd_demoted": PLAIN}
"""What no other function of a plant calls, so that it can be compiled beside them, and how that unit begins: what is
computed once for each set of modes, or once at a start, is worth little optimisation."""
LONG = 1500
"""Lines from which on it is compiled so."""
PREAMBLE = """#include <math.h>
#include <string.h>

static inline double pd_min(double a, double b) { return a < b ? a : b; }
static inline double pd_max(double a, double b) { return a > b ? a : b; }

"""
TURN = """/* Sine and cosine at once, to one unit in the last place, for half the time of the library's. The angle
less the nearest n quarter
 * turns, pi/2 in two parts of which the first times n is exact (Cody and Waite, Software Manual for the Elementary
 Functions,
 * 1980, chapter 8); the polynomials are those of fdlibm (Sun Microsystems 1993, k_sin.c and k_cos.c). */
static inline void pd_turn(double angle, double *sine, double *cosine)
{
    double turns = angle * 0.63661977236758134308 + 6755399441055744.0, n = turns - 6755399441055744.0;
    double r = angle - n * 1.57079632673412561417 - n * 6.07710050650619224932e-11, z = r * r, zz = z * z, s, c;
    union { double d; unsigned long long bits; } quarter;
    if (!(fabs(angle) < 1e6)) { *sine = sin(angle); *cosine = cos(angle); return; }
    quarter.d = turns;
    s = r + r * z * ((-1.66666666666666324348e-01 + z * 8.33333333332248946124e-03)
                     + zz * ((-1.98412698298579493134e-04 + z * 2.75573137070700676789e-06) + zz *
                     (-2.50507602534068634195e-08 + z * 1.58969099521155010221e-10)));
    c = 1 - (0.5 * z - zz * ((4.16666666666666019037e-02 + z * -1.38888888888741095749e-03)
                             + zz * ((2.48015872894767294178e-05 + z * -2.75573143513906633035e-07) + zz *
                             (2.08757232129817482790e-09 + z * -1.13596475577881948265e-11))));
    *sine = quarter.bits & 1 ? c : s;
    *cosine = quarter.bits & 1 ? s : c;
    if (quarter.bits & 2) *sine = -*sine;
    if ((quarter.bits + 1) & 2) *cosine = -*cosine;
}

"""


MAY_CALL = {"pd_surfaces": "double *f", "pd_low_surfaces": "double *f", "pd_solve_loops": "double *z"}
"""Functions that they may call, and what these give."""
LOOPS = "pd_residuals"
NEWTON = """enum { MOST = 200 };

static double pd_norm(const double *r)
{
    double sum = 0;
    int k;
    for (k = 0; k < COUNT; k++) sum += r[k] * r[k];
    return sum;
}

/* Newton with partial pivoting, from z on; a step that does not improve is halved. Tells whether it came to an end. */
static int pd_newton(double t, const double *x, const double *u, const double *s, const double *p, const double *h,
                     double *z)
{
    double r[COUNT], a[COUNT * COUNT], step[COUNT], trial[COUNT], size;
    int i, j, k, round, halving;
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
                for (j = 0; j < COUNT; j++) {
                    swap = a[k + j * COUNT];
                    a[k + j * COUNT] = a[best + j * COUNT];
                    a[best + j * COUNT] = swap;
                }
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
            if (!(fabs(z[i]) < HUGE_VAL)) return 0;   /* a slope was zero */
        }
        /* Rounding may keep a badly conditioned loop from the last digits: it is done when it stands still. */
        if (largest < 1e-11 || (round > 2 && largest < 1e-7 && size > 0.25 * before)) return 1;
        if (!(size == size)) return 0;
    }
    return 0;
}

/* Whether the residuals are smaller at one place than at another. */
static int pd_nearer(double t, const double *x, const double *u, const double *s, const double *p, const double *h,
                     const double *one, const double *other)
{
    double r[COUNT], a[COUNT * COUNT], size;
    pd_residuals(t, x, u, s, p, h, one, r, a);
    size = pd_norm(r);
    pd_residuals(t, x, u, s, p, h, other, r, a);
    return size < pd_norm(r);
}

/* From the last solution in these modes, or 0; where the modes were just entered, from the last one of all, if that is
 * nearer: a part of constant power has two solutions, and a change elsewhere must not lead to the other one. Where none
 * is found from there, as slopes vanish or the way leads into a valley of the residuals, from other places, but not
 * again before one was found. Not-a-number tells that there is no solution. */
void pd_solve_loops(double t, const double *x, const double *u, const double *s, const double *p, const double *h,
                    double *z)
{
    static const double from[] = { 1, -1, 1e3, -1e3 };
    double *kept = (double *)h + FIRST, *handed = kept + COUNT;
    int i, solved, attempt, failed = kept[0] == HUGE_VAL;
    for (i = 0; i < COUNT; i++) z[i] = !failed && kept[i] == kept[i] ? kept[i] : 0;
    if (handed[0] == handed[0]) {
        if (handed[0] != HUGE_VAL && pd_nearer(t, x, u, s, p, h, handed, z))
            for (i = 0; i < COUNT; i++) z[i] = handed[i];
        handed[0] = 0.0 / 0.0;
    }
    solved = pd_newton(t, x, u, s, p, h, z);
    for (attempt = 0; !solved && !failed && attempt < (int)(sizeof from / sizeof *from); attempt++) {
        for (i = 0; i < COUNT; i++) z[i] = from[attempt];
        solved = pd_newton(t, x, u, s, p, h, z);
    }
    for (i = 0; i < COUNT; i++) kept[i] = solved ? z[i] : HUGE_VAL;
    if (!solved) for (i = 0; i < COUNT; i++) z[i] = 0.0 / 0.0;
}
"""


class Steady(NamedTuple):
    """What depends on values and modes only: a text of the hoisting function, or a number, value or mode as
    such."""

    text: str
    plain: bool = False


class Moving(NamedTuple):
    """``sign · scale · base + offset``, not yet written: base moves with time, states or inputs; scale and
    offset are steady, or absent for one and zero. A chain of steady sums and products, as a phase current
    passes through on its way to the guards of its leg, so becomes one product and one sum."""

    base: str
    sign: int = 1
    scale: Steady | None = None
    offset: Steady | None = None

    @property
    def angle(self) -> tuple[str, Steady | None]:
        return self.base, self.scale


NOUGHT = Steady("0.0", plain=True)
MOSTLY_EMPTY = 64
"""Entries from which on an array is cleared first, and only what is not zero is written: a Jacobian of a
hundred states has ten thousand."""


class Body:
    """The lines of one emitted function."""

    def __init__(
        self,
        emitter: Emitter,
        name: str,
        keys: Sequence[str],
        arrays: Sequence[tuple[str, Sequence[int]]],
        cleared: Set[str] = frozenset(),
        *,
        hoists: bool = True,
    ):
        self.emitter, self.name, self.keys, self.arrays, self.cleared = emitter, name, keys, arrays, cleared
        """``arrays`` come with the places of the entries that are stated; ``cleared`` are zero already."""
        self.hoists = hoists
        self.lines: list[str] = []
        self.written: dict[Moving, str] = {}
        self.pairs: dict[tuple[str, Steady | None], tuple[str, str]] = {}

    def lines_of(self, f: ca.Function) -> list[str]:
        """Walk the tape; what has no time, state or input in it is hoisted."""
        work: dict[int, Steady | Moving] = {}
        for k in range(f.n_instructions()):
            op, out, inp = f.instruction_id(k), f.instruction_output(k), f.instruction_input(k)
            if op == ca.OP_CONST:
                work[out[0]] = Steady(literal(f.instruction_constant(k)), plain=True)
            elif op == ca.OP_INPUT:
                key = self.keys[inp[0]]
                text = "t" if key == "t" else f"{key}[{inp[1]}]"
                work[out[0]] = Steady(text, plain=True) if self.hoists and key not in MOVES else Moving(text)
            elif op == ca.OP_OUTPUT:
                (array, places), value = self.arrays[out[0]], work[inp[0]]
                if array not in self.cleared or value != NOUGHT:
                    self.lines.append(f"    {array}[{places[out[1]]}] = {self.text(value)};")
            else:
                operands = [work[i] for i in inp]
                if all(isinstance(o, Steady) for o in operands):
                    work[out[0]] = self.steady(FORMS[op], *operands)
                elif op in (ca.OP_SIN, ca.OP_COS):
                    work[out[0]] = self.turned(op, operands[0])
                elif op == ca.OP_ASSIGN:
                    work[out[0]] = operands[0]
                else:
                    work[out[0]] = self.affine(op, operands) or self.new(FORMS[op], operands)
        return self.lines

    def steady(self, form: str, *operands: Steady | Moving) -> Steady:
        texts = [o.text for o in operands if isinstance(o, Steady)]
        return Steady(self.emitter.steady(form.format(*texts), self.name))

    def new(self, form: str, operands: Sequence[Steady | Moving]) -> Moving:
        texts = [self.text(o) for o in operands]
        variable = f"v{len(self.lines)}"
        self.lines.append(f"    double {variable} = {form.format(*texts)};")
        return Moving(variable)

    def text(self, value: Steady | Moving) -> str:
        """How a value is read in the body; a sum or product put off till now is written first."""
        if isinstance(value, Steady):
            return value.text if value.plain else self.emitter.hoist(value.text)
        if value == Moving(value.base):
            return value.base
        if value not in self.written:
            product = value.base if value.scale is None else f"{self.text(value.scale)} * {value.base}"
            if value.offset is None:
                whole = product if value.sign > 0 else f"-({product})"
            else:
                offset = self.text(value.offset)
                whole = f"{product} + {offset}" if value.sign > 0 else f"{offset} - {product}"
            self.written[value] = f"v{len(self.lines)}"
            self.lines.append(f"    double {self.written[value]} = {whole};")
        return self.written[value]

    def affine(self, op: int, operands: Sequence[Steady | Moving]) -> Moving | None:
        """The result as another multiple of the same base with another offset, where it is one."""
        first, *others = operands
        second = others[0] if others else None
        if op == ca.OP_NEG and isinstance(first, Moving):
            return self.scaled(first, None, -1)
        if op == ca.OP_TWICE and isinstance(first, Moving):
            return self.scaled(first, Steady("2.0", plain=True))
        if op == ca.OP_MUL and isinstance(first, Steady) and second is not None:
            first, second = second, first
        if isinstance(first, Moving) and isinstance(second, Steady):
            if op == ca.OP_MUL:
                return self.scaled(first, second)
            if op == ca.OP_DIV:
                return self.scaled(first, self.steady("1 / {}", second))
        if op not in (ca.OP_ADD, ca.OP_SUB) or second is None:
            return None
        if op == ca.OP_SUB and isinstance(second, Moving):
            second, op = self.scaled(second, None, -1), ca.OP_ADD
        if isinstance(first, Moving) and isinstance(second, Moving):
            return self.together(first, second) if first.base == second.base else None
        if isinstance(first, Moving) and isinstance(second, Steady):
            return first._replace(offset=self.shifted(first.offset, FORMS[op], second))
        if isinstance(second, Moving) and isinstance(first, Steady):
            return second._replace(offset=self.shifted(second.offset, FORMS[ca.OP_ADD], first))
        return None

    def together(self, a: Moving, b: Moving) -> Moving:
        one = Steady("1.0", plain=True)
        form = f"({'-' if a.sign < 0 else ''}{{}} {'-' if b.sign < 0 else '+'} {{}})"
        scale = self.steady(form, a.scale or one, b.scale or one)
        offset = self.shifted(a.offset, FORMS[ca.OP_ADD], b.offset) if b.offset else a.offset
        return Moving(a.base, 1, scale, offset)

    def scaled(self, value: Moving, by: Steady | None, sign: int = 1) -> Moving:
        offset, scale = value.offset, value.scale
        if by is not None:
            scale = by if scale is None else self.steady("({} * {})", scale, by)
            offset = self.steady("({} * {})", offset, by) if offset else None
        if sign < 0 and offset:
            offset = self.steady("(-{})", offset)
        return Moving(value.base, sign * value.sign, scale, offset)

    def shifted(self, offset: Steady | None, form: str, by: Steady) -> Steady:
        if offset is None:
            return by if form == FORMS[ca.OP_ADD] else self.steady("(-{})", by)
        return self.steady(form, offset, by)

    def turned(self, op: int, angle: Steady | Moving) -> Moving:
        """Sine or cosine of an angle: angles that differ by a constant, as those of three phases do, share
        one pair."""
        assert isinstance(angle, Moving)
        if angle.angle not in self.pairs:
            base = self.text(Moving(angle.base, scale=angle.scale))
            n = len(self.lines)
            self.lines += [f"    double sn{n}, cs{n};", f"    pd_turn({base}, &sn{n}, &cs{n});"]
            self.pairs[angle.angle] = (f"sn{n}", f"cs{n}")
        sine, cosine = self.pairs[angle.angle]
        if angle.offset is None:
            return Moving(sine, angle.sign) if op == ca.OP_SIN else Moving(cosine)
        s, c = (self.text(self.steady(f"{f}({{}})", angle.offset)) for f in ("sin", "cos"))
        back = "-" if angle.sign < 0 else "+"
        if op == ca.OP_SIN:
            return self.new(f"({cosine} * {s} {back} {sine} * {c})", ())
        return self.new(f"({cosine} * {c} {'+' if angle.sign < 0 else '-'} {sine} * {s})", ())


class Emitter:
    """Collects functions of one model and their common hoisting function."""

    def __init__(self, inputs: Mapping[str, ca.SX]):
        self.inputs = inputs
        """Symbols by array name: t, x, u, s, p."""
        self.n_loops = inputs["z"].numel() if "z" in inputs else 0
        self.n_surface = inputs["f"].numel() if "f" in inputs else 0
        self.hoisted: dict[str, str] = {}
        self.steady_names: dict[str, str] = {}
        self.hoist_lines: list[str] = []
        self.parts: list[str] = []

    def function(
        self, name: str, outputs: Sequence[tuple[str, ca.SX]], *, hoists: bool = True, empty: Set[str] = frozenset()
    ) -> None:
        """Emit ``name`` that writes each of ``outputs`` (array name, dense expressions). One that is called but
        once for each set of modes ``hoists`` nothing. Of long arrays that are ``empty``, all zero before the first
        call and written by nothing else, entries that are always zero are left alone, and not cleared each time."""
        kept = [(array, e if e.numel() >= MOSTLY_EMPTY else ca.densify(e)) for array, e in outputs if e.numel() > 0]
        keys = list(self.inputs)
        solves = bool(self.n_loops) and any(ca.depends_on(e, self.inputs["z"]) for _, e in kept) and name != LOOPS
        given = ", const double *z" if name == LOOPS else ""
        parameters = f"{SIGNATURE}{given}{''.join(f', double *{array}' for array, _ in outputs)}"
        begin = ["   " + "".join(f" (void){a};" for a in ("t", "x", "u", "s", "p", "h", *(a for a, _ in outputs)))]
        body, more = list[str](), ""
        if kept:
            function = ca.Function("f", [self.inputs[k] for k in keys], ca.cse([e for _, e in kept]))
            sizes = {array: e.numel() for array, e in kept if e.numel() >= MOSTLY_EMPTY}
            arrays = [(array, e.sparsity().find()) for array, e in kept]
            body = Body(self, name, keys, arrays, sizes.keys(), hoists=hoists).lines_of(function)
        looks = bool(self.n_surface) and any(ca.depends_on(e, self.inputs["f"]) for _, e in kept)
        wanted = (
            "pd_surfaces"
            if looks and any(ca.depends_on(e, self.third_derivatives) for _, e in kept)
            else "pd_low_surfaces"
        )
        if looks:
            begin += [f"    double f[{self.n_surface}];", f"    {wanted}(t, x, u, s, p, h, f);"]
            more += ", const double *f"
        if solves:
            begin += [f"    double z[{self.n_loops}];", "    pd_solve_loops(t, x, u, s, p, h, z);"]
            more += ", const double *z"
        if kept:
            begin += [
                f"    memset({array}, 0, sizeof(double) * {count});"
                for array, count in sizes.items()
                if array not in empty
            ]
        self.parts.append(function_of(name, parameters, begin, body, more))

    def same(self, name: str, other: str, arrays: Sequence[str], unused: Sequence[str]) -> None:
        """Emit ``name`` that writes what ``other`` writes, and nothing to the arrays that are ``unused``."""
        signature = f"void {name}({SIGNATURE}{''.join(f', double *{array}' for array in (*arrays, *unused))})"
        quiet = "".join(f" (void){array};" for array in unused)
        call = f"    {other}(t, x, u, s, p, h, {', '.join(arrays)});"
        self.parts.append(f"{signature}\n{{\n   {quiet}\n{call}\n}}\n")

    @property
    def third_derivatives(self) -> ca.SX:
        """Of all surfaces: what only Jacobians need."""
        f = self.inputs["f"]
        return ca.vertcat(*(f[k : k + 4] for k in range(6, self.n_surface, 10)))

    def surfaces(self, surfaces: Sequence[Surface], places: ca.SX, first: int) -> None:
        """Emit the surfaces at their ``places`` (x and y of each), with and without third derivatives; their
        numbers stand in ``p`` from ``first`` on."""
        self.parts.append(resources.files("pendel.core.plant").joinpath("surfaces.c").read_text("utf-8"))
        self.function("pd_places", [("at", places)])
        places_of = list(itertools.accumulate((s.count for s in surfaces), initial=first))
        for name, third in (("pd_surfaces", 1), ("pd_low_surfaces", 0)):
            calls = [
                f"    surface(p + {at}, {s.cells[0]}, {s.cells[1]}, {third}, at[{2 * k}], at[{2 * k + 1}], "
                f"f + {10 * k});"
                for k, (s, at) in enumerate(zip(surfaces, places_of))
            ]
            self.parts.append(
                f"void {name}({SIGNATURE}, double *f)\n{{\n    double at[{2 * len(surfaces)}];\n"
                "    pd_places(t, x, u, s, p, h, at);\n" + "\n".join(calls) + "\n}\n"
            )

    def loops(self, residuals: ca.SX) -> None:
        """Emit the residuals of what has no safe symbolic solution, their Jacobian, and the Newton iteration
        over both.

        The last solution is kept behind the hoisted values, as the start of the next; behind it there is place for the
        last one in other modes.
        """
        self.function(LOOPS, [("r", residuals), ("jac", ca.jacobian(residuals, self.inputs["z"]))])
        self.parts.append(NEWTON.replace("COUNT", str(self.n_loops)))

    def steady(self, expression: str, stem: str) -> str:
        """Name of what depends on values and modes only, among the hoisting function's own variables."""
        if expression not in self.steady_names:
            self.steady_names[expression] = f"{stem}_{len(self.steady_names)}"
            self.hoist_lines.append(f"    double {self.steady_names[expression]} = {expression};")
        return self.steady_names[expression]

    def hoist(self, name: str) -> str:
        """Place in ``h`` where function bodies read a steady variable."""
        if name not in self.hoisted:
            self.hoisted[name] = f"h[{len(self.hoisted)}]"
            self.hoist_lines.append(f"    {self.hoisted[name]} = {name};")
        return self.hoisted[name]

    def source(self) -> str:
        """C of the plant, in units that are compiled side by side."""
        begin = ["    (void)p; (void)s; (void)h;"]
        hoist = function_of("pd_hoist", "const double *p, const double *s, double *h", begin, self.hoist_lines)
        units, together = list[str](), list[str]()
        for part in (hoist, *(part.replace("FIRST", str(len(self.hoisted))) for part in self.parts)):
            alone = next((name for name in CALLED_ALONE if f"void {name}(" in part), "")
            if alone and part.count("\n") > LONG:
                called = [f"void {n}({SIGNATURE}, {what});\n" for n, what in MAY_CALL.items() if f" {n}(" in part]
                units.append(CALLED_ALONE[alone] + unit_of([*called, part]))
            else:
                together.append(part)
        together.append(f"int pd_looped(void) {{ return {2 * self.n_loops}; }}\n")
        together.append(f"int pd_hoisted(void) {{ return {len(self.hoisted) + 2 * self.n_loops}; }}\n")
        return UNIT.join([*units, unit_of(together)])


def unit_of(parts: Sequence[str]) -> str:
    turn = TURN if any("pd_turn(" in part for part in parts) else ""
    return PREAMBLE + turn + "\n".join(parts)
