"""A block's update in fixed point: integer C whose every intermediate provably fits.

A value is a word of W bits that counts steps of a power of two; products are exact in 2W bits, sums are
aligned, right shifts round. The bounds of every intermediate are followed as whole numbers, branch by branch;
where a result is not proven to fit, and only there, it is limited."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import replace
from itertools import zip_longest

from pendel.core.controllers.numbers.block import LINE
from pendel.core.controllers.numbers.filling import hanging_on
from pendel.core.controllers.numbers.integers import (
    MOST,
    Code,
    bits_of,
    otherwise,
    scaled_size,
    truncated,
    turn_code,
    whole,
    widened,
)
from pendel.core.controllers.numbers.intervals import Interval
from pendel.core.controllers.numbers.representation import Rep, turn_word, word_for
from pendel.core.controllers.numbers.scaling import Scaling
from pendel.core.controllers.numbers.tree import (
    CLOSE,
    Assign,
    Call,
    CannotLower,
    Choose,
    Compare,
    Const,
    Either,
    Every,
    Expr,
    Live,
    Name,
    Product,
    Quotient,
    Remember,
    Scaled,
    Statement,
    Sum,
    Test,
    When,
    assignments,
    increment,
    negated,
)

Bounds = dict[str, tuple[int, int]]


class FixedWriter(Scaling):
    """C of one block's update in fixed point."""

    # expressions ------------------------------------------------------------------------------------------

    def value(self, expr: Expr, env: Bounds) -> Code:
        match expr:
            case Const(value):
                return self.constant(value)
            case Live():
                return self.live_number(expr)
            case Name(name) if name in self.angles:
                return self.times(2.0 * math.pi / 2.0 ** self.turn_bits(name), self.raw_turn(name))
            case Name():
                return self.name(expr.name, env)
            case Sum(left, right, minus):
                a, b = self.value(left, env), self.value(right, env)
                if b.size == 0 or a.size == 0:
                    return a if b.size == 0 else (self.times(-1.0, b) if minus else b)
                a, b = self.aligned(a, b, added=True)
                low, high = (a.low - b.high, a.high - b.low) if minus else (a.low + b.low, a.high + b.high)
                sum_code = Code("", a.fraction, low, high)
                narrow = a.text in self.short and (b.text in self.short or b.const is not None)
                first = self.widened(a) if narrow else a.inner
                first = widened(a) if sum_code.wide and not (a.wide or b.wide) else first
                sum_code = replace(sum_code, text=f"{first} {'-' if minus else '+'} {b.inner}")
                moving = [c for c in (a, b) if c.const is None]
                return sum_code.from_steps_of(max(moving, key=lambda c: c.minimum)) if moving else sum_code
            case Scaled(factor, of):
                if self.wraps(of):
                    bits = self.bits
                    turn = turn_code(self.turn(of, bits, env), bits)
                    return self.times(factor * 2.0 * math.pi / 2.0**bits, turn)
                return self.times(factor, self.value(of, env))
            case Product(left, right):
                return self.product(left, right, env)
            case Quotient(over, under):
                return self.quotient(over, under, env)
            case Choose(test, yes, no):
                return self.choose(test, yes, no, env)
            case Call(name, args):
                return self.function(name, args, env)
        raise AssertionError(expr)

    @property
    def angles(self) -> frozenset[str]:
        return self.tree.angles

    def wraps(self, expr: Expr) -> bool:
        return (isinstance(expr, Name) and expr.name in self.angles) or (
            isinstance(expr, Call) and expr.function in ("wrapped", "atan2")
        )

    def name(self, name: str, env: Bounds) -> Code:
        kept = self.naturals.get(name)
        if kept is not None:
            fraction, low, high, wide = kept.fraction, kept.low, kept.high, kept.wide
        else:
            rep = self.reps[name]
            fraction, low, high, wide = rep.fraction, rep.low, rep.high, rep.bits == 64
        low, high = env.get(name, (low, high))
        code = Code(self.places[name], fraction, low, high, True)
        if kept is not None:
            code = code.from_steps_of(kept)
        elif max(-rep.low, rep.high) < 2 ** (rep.bits - 4):  # of few values, which it moves between as it should
            code = replace(code, by_rounding=False)
        elif name in self.jumps and name in self.tree.locals:
            code = replace(code, grain=max(self.jumps[name], code.minimum))
        if wide and not code.wide:  # a branch has shown that it fits in fewer bits
            return replace(code, text=f"(int32_t){code.text}", atom=False)
        return code

    def product(self, left: Expr, right: Expr, env: Bounds) -> Code:
        if isinstance(left, Live):
            if self.wraps(right):
                part = 2.0 * math.pi / 2.0**self.bits
                turn = turn_code(self.turn(right, self.bits, env), self.bits)
                return self.times_live(hanging_on(Product(Const(part), left)), turn)
            return self.times_live(left, self.value(right, env))
        a, b = self.value(left, env), self.value(right, env)
        if a.const is not None or b.const is not None:
            return self.times(a.const, b) if a.const is not None else self.times(b.const or 0.0, a)
        square = left == right
        digits = [a.bits, b.bits]
        while sum(digits) > 2 * self.bits - 1:
            if square:
                digits = [d - 1 for d in digits]
            else:
                digits[digits[1] > digits[0]] -= 1
        a, b = self.narrowed(a, digits[0]), self.narrowed(b, digits[1])
        ends = [x * y for x in (a.low, a.high) for y in (b.low, b.high)]
        low = min(ends) if not square else (0 if a.low <= 0 <= a.high else min(ends))
        product_code = Code("", a.fraction + b.fraction, max(low, 0) if square else low, max(ends))
        text = widened(a) if product_code.wide and not a.wide else self.widened(a)
        # A step of the one changes it by so much where the other is at half of what it may be.
        grain = 0.5 * max(a.minimum * b.interval.size, b.minimum * a.interval.size)
        return replace(product_code, text=f"{text} * {b.inner}", grain=grain, by_rounding=False)

    def quotient(self, over: Expr, under: Expr, env: Bounds) -> Code:
        b = self.value(under, env)
        digits = 2 * self.bits - 2
        # Whole counts keep their digits: a count is small beside what it may come to.
        whole_divisor = b
        b = self.narrowed(b, max(self.bits, min(b.bits - b.fraction, digits)))
        if whole_divisor.low > 0 >= b.low:  # what rounding brought to zero stays a step above
            b = Code(self.call(f"pd_max{b.width}", b.text, "1"), b.fraction, 1, max(1, b.high), True)
        if b.const is not None:
            return self.times(1.0 / b.const, self.value(over, env))
        a = self.value(over, env)
        if a.const is not None:
            a = self.constant(a.const, digits - 1 - math.frexp(a.const)[1])
        else:
            a = self.narrowed(a, digits)
            a = self.at(a, a.fraction + max(0, digits - a.bits))
        if b.low <= 0 <= b.high:
            self.divisors.append(under)
            wide = a.wide or b.wide
            text = self.call(f"pd_div{64 if wide else 32}", a.text, b.text)
            return Code(text, a.fraction - b.fraction, -a.size, a.size, True)
        ends = [truncated(x, y) for x in (a.low, a.high) for y in (b.low, b.high)]
        quotient_code = Code(f"{a.inner} / {b.inner}", a.fraction - b.fraction, min(ends), max(ends))
        if b.size > 2 ** (self.bits // 2) * min(abs(b.low), abs(b.high)):
            quotient_code = replace(quotient_code, loose=Quotient(over, under))
        return (
            replace(quotient_code, text=f"(int32_t)({quotient_code.text})")
            if a.wide and not quotient_code.wide
            else quotient_code
        )

    def choose(self, test: Test, yes: Expr, no: Expr, env: Bounds, steps: int | None = None) -> Code:
        """One of two; of constants in given ``steps`` where there are some."""
        there, else_there = self.refined(test, env), self.refined(negated(test), env)
        if there is None or else_there is None:
            return self.value(no, env) if there is None else self.value(yes, there)
        a, b = self.value(yes, there), self.value(no, else_there)
        if steps is not None and max(scaled_size(c, steps) for c in (a, b)) <= self.maximum:
            a, b = self.at(a, steps), self.at(b, steps)
        else:
            a, b = self.aligned(a, b)
        both = a.const is not None and b.const is not None
        cast = (
            f"(int{max(a.width, b.width)}_t)" if both and self.bits == 32 else ""
        )  # of constants alone it is narrower
        text = f"{self.test(test, env)} ? {cast}{a.inner} : {cast}{b.inner}"
        chosen = Code(text, a.fraction, min(a.low, b.low), max(a.high, b.high), by_rounding=not both)
        return chosen.as_coarse_as(a, b)

    def function(self, name: str, args: Sequence[Expr], env: Bounds) -> Code:
        half = 2 ** (self.bits - 1)
        match name:
            case "sin" | "cos":
                text = self.call(f"pd_{name}{self.bits}", self.turn(args[0], self.bits, env))
                unit = 2**30 if self.bits == 32 else half - 1
                return Code(text, 30 if self.bits == 32 else 15, -unit, unit, True)
            case "wrapped" | "atan2":
                turn = turn_code(self.turn(Call(name, tuple(args)), self.bits, env), self.bits)
                return self.times(2.0 * math.pi / 2.0**self.bits, turn)
            case "recalled":
                rep = self.reps[LINE]
                return Code("b->past[b->at]", rep.fraction, rep.low, rep.high, True)
            case "interpolated":
                return self.interpolated(args[0], env)
            case "mapped":
                return self.mapped(args, env)
            case "normal" | "delayed":
                raise CannotLower(self.tree.title, f"{name} exists in float only. Choose float 32 or float 64.")
        codes = [self.value(a, env) for a in args]
        match name:
            case "saturate":
                return self.saturated(*codes)
            case "minimum" | "maximum":
                return self.extreme(name, *codes)
            case "absolute":
                x = codes[0]
                if x.low >= 0:
                    return x
                low = 0 if x.high >= 0 else -x.high
                return Code(self.call(f"pd_abs{x.width}", x.text), x.fraction, low, x.size, True).as_coarse_as(x)
            case "floor":
                x = codes[0]
                if x.fraction <= 0:
                    return x
                shift = min(x.fraction, x.width - 1)
                text = self.call(f"pd_down{x.width}", x.text, f"{shift}")
                return Code(text, 0, x.low >> x.fraction, x.high >> x.fraction, True)
            case "sqrt":
                return self.root(codes[0])
        raise AssertionError(name)

    # angles -----------------------------------------------------------------------------------------------

    def turn_bits(self, name: str) -> int:
        return self.reps[name].bits

    def raw_turn(self, name: str) -> Code:
        return turn_code(self.places[name], self.turn_bits(name))

    def turn(self, expr: Expr, bits: int, env: Bounds) -> str:
        """An expression as an angle in parts of a turn, of ``bits``; it wraps."""
        if isinstance(expr, Name) and expr.name in self.angles and self.turn_bits(expr.name) == bits:
            return self.places[expr.name]
        if isinstance(expr, Call) and expr.function == "atan2" and bits == self.bits:
            return self.arc(expr, env)
        if isinstance(expr, Call) and expr.function == "wrapped":
            return self.turn(expr.args[0], bits, env)
        text = self.unsigned(expr, bits, env)
        return self.call(f"pd_turn{bits}", text)

    def arc(self, expr: Call, env: Bounds) -> str:
        y, x = self.aligned(*(self.value(a, env) for a in expr.args))
        digits = max(x.bits, y.bits)
        shift = digits - (self.bits - 1)
        if shift > 0:
            fraction = y.fraction - shift
            y, x = self.at(y, fraction), self.at(x, fraction)
        return self.call(f"pd_atan2_{self.bits}", y.text, x.text)

    def unsigned(self, expr: Expr, bits: int, env: Bounds) -> str:
        """As `turn`, unsigned and perhaps with digits beyond ``bits``, which do not count."""
        match expr:
            case Const(value):
                return f"{turn_word(bits).word(value) % 2**bits}u"
            case Name(name) if name in self.angles:
                own = self.turn_bits(name)
                if own == bits:
                    return f"(uint32_t){self.places[name]}"
                if own < bits:
                    return f"((uint32_t){self.places[name]} << {bits - own})"
                return f"(((uint32_t){self.places[name]} + {2 ** (own - bits - 1)}u) >> {own - bits})"
            case Sum(left, right, minus):
                return f"({self.unsigned(left, bits, env)} {'-' if minus else '+'} {self.unsigned(right, bits, env)})"
            case Scaled(factor, of) if factor == int(factor) and self._turns(of):
                return f"({int(factor) % 2**32}u * {self.unsigned(of, bits, env)})"
            case Product(Live(of), right) if self._turns(right):
                names = " and ".join(sorted(of.names))
                raise CannotLower(
                    self.tree.title, f"{names} multiplies an angle that wraps, so it cannot be live in words."
                )
            case Choose(test, yes, no):
                return f"({self.test(test, env)} ? {self.unsigned(yes, bits, env)} : {self.unsigned(no, bits, env)})"
            case Call("wrapped", (inner,)):
                return self.unsigned(inner, bits, env)
            case Call("atan2", _):
                text = self.arc(expr, env)
                return f"((uint32_t){text} << {bits - self.bits})" if bits > self.bits else f"(uint32_t){text}"
        code = self.numeric_turn(expr, bits, env)
        return bits_of(code, 32)

    def _turns(self, expr: Expr) -> bool:
        """Whether an expression is an angle or a sum with one, so that whole multiples of it wrap as well."""
        if isinstance(expr, Sum):
            return self._turns(expr.left) or self._turns(expr.right)
        return self.wraps(expr)

    def numeric_turn(self, expr: Expr, bits: int, env: Bounds) -> Code:
        """A number in rad as whole parts of a turn."""
        parts = 2.0**bits / (2.0 * math.pi)
        match expr:
            case Product(Live() as live, of):
                code = self.times_live(hanging_on(Product(Const(parts), live)), self.value(of, env))
            case Scaled(factor, of):
                code = self.times(factor * parts, self.value(of, env))
            case _:
                code = self.times(parts, self.value(expr, env))
        if code.fraction < 0:  # beyond whole turns of what 32 bits hold, high digits do not count
            shift = -code.fraction
            if shift >= bits:
                return Code("0", 0, 0, 0, True)
            if code.size << shift > MOST[64]:
                return Code(f"({bits_of(code, 64)} << {shift})", 0, 0, MOST[64], True)
            return self.at(code, 0, wide=True)
        return self.at(code, 0)

    # tables -----------------------------------------------------------------------------------------------

    def array(self, name: str, values: Sequence[int], bits: int) -> str:
        text = ", ".join(f"{v}" for v in values)
        self.tables.append(f"static const int{bits}_t pd_{name}[{len(values)}] = {{{text}}};")
        return f"pd_{name}"

    def interpolated(self, at: Expr, env: Bounds) -> Code:
        table = self.tree.instance.table
        if not table:
            return Code("0", 0, 0, 0, True, 0.0)
        first, second = ([row[k] for row in table] for k in (0, 1))
        x_rep = word_for(Interval(min(first), max(first)), 32, headroom=1)
        y_rep = word_for(Interval(min(second), max(second)), self.bits, headroom=1)
        axis = self.array(f"{self.places['']}_x", [x_rep.word(v) for v in first], 32)
        values = self.array(f"{self.places['']}_y", [y_rep.word(v) for v in second], self.bits)
        x = self.into(self.value(at, env), x_rep)
        text = self.call(f"pd_interpolate{self.bits}", axis, values, f"{len(table)}", x.text)
        words = [y_rep.word(v) for v in second]
        return Code(text, y_rep.fraction, min(words), max(words), True)

    def mapped(self, args: Sequence[Expr], env: Bounds) -> Code:
        table = self.tree.instance.table
        layer = getattr(args[0], "value", None)
        if layer is None:
            raise CannotLower(self.tree.title, "the layer of its map is no constant. Name it by a number.")
        first = [a for a, _ in table]
        nx, ny = int(first[0]), int(first[1])
        axes = first[2 : 2 + nx], first[2 + nx : 2 + nx + ny]
        values = self.tree.table_values(int(layer))
        rep = word_for(Interval(min(values), max(values)), self.bits, headroom=1)
        words = [rep.word(v) for v in values]
        stem = self.places[""]
        names, places = [], []
        for letter, axis, arg in zip("xy", axes, args[1:]):
            axis_rep = word_for(Interval(axis[0], axis[-1]), self.bits, headroom=1)
            axis_name, axis_words = f"{stem}_{letter}", [axis_rep.word(v) for v in axis]
            if len(set(axis_words)) < len(axis_words):
                raise CannotLower(self.tree.title, CLOSE)
            if not any(f" pd_{axis_name}[" in t for t in self.tables):
                self.array(axis_name, axis_words, self.bits)
            names.append(f"pd_{axis_name}")
            places.append(self.into(self.value(arg, env), axis_rep).text)
        surface = f"{stem}_z{int(layer)}"
        if not any(f" pd_{surface}[" in t for t in self.tables):
            self.array(surface, words, self.bits)
        text = self.call(
            f"pd_map{self.bits}", names[0], f"{nx}", names[1], f"{ny}", f"pd_{surface}", places[0], places[1]
        )
        return Code(text, rep.fraction, min(words), max(words), True)

    # tests ------------------------------------------------------------------------------------------------

    def test(self, test: Test, env: Bounds) -> str:
        match test:
            case Compare(op, left, right):
                return self.compare(op, self.value(left, env), self.value(right, env))
            case Every(tests):
                return " && ".join(f"({self.test(t, env)})" for t in tests)
            case Either(tests):
                return " || ".join(f"({self.test(t, env)})" for t in tests)
        raise AssertionError(test)

    def compare(self, op: str, a: Code, b: Code) -> str:
        if a.const is not None and b.const is None:
            op, a, b = {"<": ">", "<=": ">=", ">": "<", ">=": "<="}[op], b, a
        if b.const is not None and a.const is None:
            exact = math.ldexp(b.const, a.fraction)  # n < c as n < ceil(c), n ≤ c as n ≤ floor(c)
            limit = math.ceil(exact) if op in ("<", ">=") else math.floor(exact)
            edge = MOST[64] if a.wide else MOST[32]
            word = max(-edge, min(edge, limit))
            text = self.named(b.const, word, a.fraction) if word == limit else whole(word)
            return f"{a.inner} {op} {text}"
        a, b = self.aligned(a, b)
        return f"{a.inner} {op} {b.inner}"

    def refined(self, test: Test, env: Bounds) -> Bounds | None:
        """Bounds of names where a test holds; None where it cannot."""
        match test:
            case Compare(op, left, right):
                a, b = self.quietly(left, env), self.quietly(right, env)
                narrowed = dict(env)
                for code, side, other, sign in ((a, left, b, op), (b, right, a, MIRRORED[op])):
                    low, high = code.low, code.high
                    if sign in ("<", "<="):
                        high = min(high, bound_in(other, code.fraction, upper=True))
                    else:
                        low = max(low, bound_in(other, code.fraction, upper=False))
                    if low > high:
                        return None
                    if isinstance(side, Name) and side.name not in self.angles:
                        narrowed[side.name] = (low, high)
                return narrowed
            case Every(tests):
                current: Bounds | None = env
                for each in tests:
                    current = self.refined(each, current) if current is not None else None
                return current
            case Either(tests):
                ways = [w for w in (self.refined(t, env) for t in tests) if w is not None]
                return env if len(ways) > 1 else (ways[0] if ways else None)
        raise AssertionError(test)

    def quietly(self, expr: Expr, env: Bounds) -> Code:
        """An expression's bounds, without a trace of its having been written."""
        kept = len(self.coefficients), len(self.divisors), set(self.used), len(self.tables)
        code = self.value(expr, env)
        del self.coefficients[kept[0] :], self.divisors[kept[1] :], self.tables[kept[3] :]
        self.used = kept[2]
        return code

    # statements -------------------------------------------------------------------------------------------

    def statements(self, body: Sequence[Statement], env: Bounds, indent: int = 1) -> list[str]:
        pad, lines = "    " * indent, list[str]()
        for statement, then in zip_longest(body, body[1:]):
            match statement:
                case Assign(name, value):
                    text = self.assign(name, value, env, then)
                    if text != f"{self.places[name]} = {self.places[name]};":  # of what bounds leave as it is
                        lines.append(pad + text)
                case Remember(value):
                    rep = self.reps[LINE]
                    text = f"({rep.c_type})({self.into(self.value(value, env), rep, LINE).text})"
                    if isinstance(value, Name) and indent == 1 and self.loses(value.name, rep, env):
                        lines.append(f"{pad}const {rep.c_type} {self.as_remembered(value.name, rep, env)} = {text};")
                        text = self.places[value.name]
                    lines += [
                        f"{pad}b->past[b->at] = {text};",
                        f"{pad}b->at = (b->at + 1 < {self.tree.places}) ? (b->at + 1) : 0;",
                    ]
                case When():
                    lines += self.when(statement, env, indent)
        return lines

    def loses(self, name: str, rep: Rep, env: Bounds) -> bool:
        """Whether what is remembered of a name, which no later statement assigns, may be another number than it is."""
        if name in self.angles or (name not in self.naturals and name in {a.name for a in assignments(self.tree.body)}):
            return False
        code = self.name(name, env)
        factor = 2.0 ** (rep.fraction - code.fraction)
        return factor < 1.0 or factor * code.low < rep.low or factor * code.high > rep.high

    def as_remembered(self, name: str, rep: Rep, env: Bounds) -> str:
        """From here on a name is what was remembered of it, under the name returned: a sum to which it is added now and
        from which what is remembered is taken later would else keep the difference for ever."""
        kept = f"{self.places[name].rpartition('>')[2]}_kept"
        while kept in self.places.values():
            kept += "_"
        env.pop(name, None)
        self.naturals[name] = Code(kept, rep.fraction, rep.low, rep.high, True)
        self.places[name] = kept
        return kept

    def assign(self, name: str, value: Expr, env: Bounds, then: Statement | None = None) -> str:
        place = self.places[name]
        if name in self.angles:
            rep = self.reps[name]
            return f"{place} = {self.turn(value, rep.bits, env)};"
        self.finest = self.reps[name].fraction if name in self.tree.accumulated else None
        if isinstance(value, Choose) and isinstance(value.yes, Const) and isinstance(value.no, Const):
            steps = self.reps[name].fraction if name in self.reps else None
            code = self.choose(value.test, value.yes, value.no, env, steps)
        else:
            code = self.value(value, env)
        env.pop(name, None)
        word = self.limited_next(name, code, then, env)
        self.finest = None
        if name not in self.reps:
            self.naturals[name] = replace(code, const=None)
            return f"const int{code.width}_t {place} = {code.text};"
        rep, step = self.reps[name], increment(value, name)
        moved = self.quietly(step, env) if self.counting and step is not None else None
        if name in self.tree.accumulated:
            self.note_lost(name, value, rep, env)
        word = word or self.into(code, rep, name)
        if code.const is None and code.by_rounding:
            self.jumps[name] = max(code.minimum, self.jumps.get(name, 0.0))
        narrow = rep.bits == 16 and word.const is None and word.text not in self.short
        env[name] = (word.low, word.high)
        line = f"{place} = {f'(int16_t){word.inner}' if narrow else word.text};"
        return line if moved is None else self.counted_line(name, line, moved, rep)

    def limited_next(self, name: str, code: Code, then: Statement | None, env: Bounds) -> Code | None:
        """A value between the limits that the next statement sets it anyway, where its word holds these: the result is
        the same, without being limited to its word before. None where the next statement sets it none such."""
        match then:
            case Assign(again, Call("saturate", (Name(of), Const() as low, Const() as high))) if again == of == name:
                rep = self.reps.get(name)
            case _:
                return None
        if rep is None or self.counting or code.const is not None or scaled_size(code, rep.fraction) > MOST[64]:
            return None
        if not rep.low < math.ldexp(low.value, rep.fraction) <= math.ldexp(high.value, rep.fraction) < rep.high:
            return None
        apart = self.quietly(then.value, env)
        found = self.saturated(self.at(code, rep.fraction, wide=True), *map(self.value, (low, high), (env, env)))
        return found if found.fraction == apart.fraction == rep.fraction else None

    def counted_line(self, name: str, line: str, moved: Code, rep: Rep) -> str:
        """An assignment that counts when it leaves a state as it is, though what it adds is not zero."""
        place, counter = self.places[name], f"{self.counting}{len(self.counted)}"
        self.counted.append(name)
        inside = f"({place} > {whole(rep.low)}) && ({place} < {whole(rep.high)})"
        return (
            f"{{ const int64_t pd_before = {place}; const int pd_moves = ({moved.text}) != 0; {line} "
            f"if (({place} == pd_before) && pd_moves && {inside}) {{ {counter} += 1.0; }} }}"
        )

    def note_lost(self, name: str, value: Expr, rep: Rep, env: Bounds) -> None:
        """What an input of a sum must at least change by for the state to take it in, where that is more than
        a step of it."""
        moving = [(f, self.quietly(e, env)) for f, e in added(value, name) if not isinstance(e, Const)]
        if not moving:
            return
        factor, step = max(moving, key=lambda m: abs(m[0]) * m[1].minimum)
        if 0.0 < abs(factor) * step.minimum < 0.5 * rep.step:
            gain = abs(factor) * (step.gain if step.grain else 1.0)
            self.lost[name] = max(self.lost.get(name, 0.0), 0.5 * rep.step / gain)

    def when(self, statement: When, env: Bounds, indent: int) -> list[str]:
        pad = "    " * indent
        yes, no = self.refined(statement.test, env), self.refined(negated(statement.test), env)
        if yes is None or no is None:
            body = statement.then if no is None else statement.otherwise
            return self.statements(body, env, indent)
        text = self.test(statement.test, env)
        lines = [f"{pad}if ({text}) {{", *self.statements(statement.then, yes, indent + 1)]
        if statement.otherwise:
            lines += otherwise(self.statements(statement.otherwise, no, indent + 1), pad)
        for name in {a.name for a in assignments([statement])} | (yes.keys() & no.keys()):
            if name in self.reps and name not in self.angles:
                rep = self.reps[name]
                ends = [e.get(name, env.get(name, (rep.low, rep.high))) for e in (yes, no)]
                env[name] = (min(e[0] for e in ends), max(e[1] for e in ends))
        return [*lines, f"{pad}}}"]


def bound_in(code: Code, fraction: int, *, upper: bool) -> int:
    """An end of what a value can be, as a word of other steps; for what is computed a step beyond, as comparing
    rounds."""
    if code.const is not None:
        word = math.ldexp(code.const, fraction)
        return math.ceil(word) if upper else math.floor(word)
    shift = fraction - code.fraction
    end = code.high if upper else code.low
    if shift >= 0:
        end <<= shift
    else:
        end = -(-end >> -shift) if upper else end >> -shift
    return end + 1 if upper else end - 1


MIRRORED = {"<": ">", "<=": ">=", ">": "<", ">=": "<="}


def added(value: Expr, name: str, factor: float = 1.0) -> list[tuple[float, Expr]]:
    """What a sum adds to ``name``, with its coefficients."""
    match value:
        case Sum(left, right, minus):
            return [*added(left, name, factor), *added(right, name, -factor if minus else factor)]
        case Scaled(more, of) if isinstance(of, Sum | Scaled):
            return added(of, name, factor * more)
        case Scaled(more, of):
            return [] if of == Name(name) else [(factor * more, of)]
        case Name(own) if own == name:
            return []
    return [(factor, value)]
