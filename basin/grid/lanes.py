"""What the compiler does not find by itself: vectors over a cell's corners or a spline's cells, and fetching ahead.

All flags here keep results the same on any number of threads: products may be summed with one rounding, never in
another order.
"""

from __future__ import annotations

from typing import Any

from llvmlite import ir
from numba import types
from numba.extending import intrinsic

FLOAT = ir.FloatType()
EIGHT = ir.VectorType(FLOAT, 8)
FOUR = ir.VectorType(FLOAT, 4)
FLAGS = ("contract",)  # a product and a sum may round once
CONTRACT = {"contract", "nsz", "arcp"}  # the same for whole kernels
AHEAD = 24  # particles: loops over records are bound by the way to memory, not by its width


def _all(builder: Any, value: Any, kind: Any = EIGHT) -> Any:
    """A vector of equal values."""
    none = ir.Constant(kind, ir.Undefined)
    one = builder.insert_element(none, value, ir.Constant(ir.IntType(32), 0))
    return builder.shuffle_vector(one, none, ir.Constant(ir.VectorType(ir.IntType(32), kind.count), [0] * kind.count))


def _corner(bit: int) -> Any:
    """0 or 1 for each corner of a cell, x changing slowest."""
    return ir.Constant(EIGHT, [float((q >> bit) & 1) for q in range(8)])


def _add_at(builder: Any, place: Any, kind: Any, what: Any) -> None:
    """Add a vector to memory."""
    place = builder.bitcast(place, kind.as_pointer())
    held = builder.load(place, align=4)
    builder.store(builder.fadd(held, what, flags=FLAGS), place, align=4)


@intrinsic
def prefetch(typing_context, array, row):  # type: ignore[no-untyped-def]
    """Ask for the beginning of a row of a C array before it is needed; rows beyond its end do no harm."""
    signature = types.void(array, types.uint64)

    def code(context: Any, builder: Any, signature: Any, args: Any) -> Any:
        held = context.make_array(signature.args[0])(context, builder, args[0])
        width = builder.extract_value(held.strides, 0)
        byte, whole = ir.IntType(8).as_pointer(), ir.IntType(32)
        place = builder.add(builder.ptrtoint(held.data, ir.IntType(64)), builder.mul(args[1], width))
        place = builder.inttoptr(place, byte)
        kind = ir.FunctionType(ir.VoidType(), [byte, whole, whole, whole])
        name = "llvm.prefetch.p0" if getattr(byte, "is_opaque", False) else "llvm.prefetch.p0i8"
        function = builder.module.globals.get(name) or ir.Function(builder.module, kind, name)
        builder.call(function, [place, ir.Constant(whole, 0), ir.Constant(whole, 3), ir.Constant(whole, 1)])
        return context.get_dummy_value()

    return signature, code


@intrinsic
def add_to_corners(typing_context, lines, row, m, a, b, c, base, cx, cy, cz):  # type: ignore[no-untyped-def]
    """Add a particle's share to the eight corners of its cell, x changing slowest.

    lines[row, 0:8] += weight * (base + cx X + cy Y + cz Z) and lines[row, 8:16] += weight, where
    (X, Y, Z) is the corner's place, (a, b, c) the particle's, and weight its trilinear share of m.

    Parameters
    ----------
    lines : float32 (n, 16), C order; row : unsigned; the others float32
    """
    f = types.float32
    signature = types.void(lines, types.uint64, f, f, f, f, f, f, f, f)

    def code(context: Any, builder: Any, signature: Any, args: Any) -> Any:
        array = context.make_array(signature.args[0])(context, builder, args[0])
        first = builder.gep(array.data, [builder.mul(args[1], ir.Constant(ir.IntType(64), 16))])
        m, a, b, c, base, cx, cy, cz = (_all(builder, v) for v in args[2:])
        one, two = (ir.Constant(EIGHT, [v] * 8) for v in (1.0, 2.0))
        weight = m
        for place, bit in ((a, 2), (b, 1), (c, 0)):
            rise = builder.fsub(builder.fmul(place, two), one)
            here = builder.fadd(builder.fmul(_corner(bit), rise, flags=FLAGS), builder.fsub(one, place), flags=FLAGS)
            weight = builder.fmul(weight, here)
        value = base
        for slope, bit in ((cx, 2), (cy, 1), (cz, 0)):
            value = builder.fadd(value, builder.fmul(_corner(bit), slope, flags=FLAGS), flags=FLAGS)
        _add_at(builder, first, EIGHT, builder.fmul(weight, value, flags=FLAGS))
        _add_at(builder, builder.gep(first, [ir.Constant(ir.IntType(64), 8)]), EIGHT, weight)
        return context.get_dummy_value()

    return signature, code


@intrinsic
def add_spline(typing_context, line, place, width, m, a, b, c):  # type: ignore[no-untyped-def]
    """Add m, spread by a quadratic B-spline, to 3 x 3 rows of four cells of a block that lies as one line.

    Parameters
    ----------
    line : float32, C order; place : unsigned, the lowest of the 27 cells; width : unsigned, the block's
    a, b, c : float32, offsets in [-0.5, 0.5] from the middle cell's centre; a row's fourth cell gets 0
    """
    f = types.float32
    signature = types.void(line, types.uint64, types.uint64, f, f, f, f)

    def code(context: Any, builder: Any, signature: Any, args: Any) -> Any:
        array = context.make_array(signature.args[0])(context, builder, args[0])
        place, width, m, *offsets = args[1:]
        half, most = ir.Constant(FLOAT, 0.5), ir.Constant(FLOAT, 0.75)

        def weights(d: Any) -> list[Any]:
            low, high = builder.fsub(half, d), builder.fadd(half, d)
            middle = builder.fsub(most, builder.fmul(d, d))
            outer = [builder.fmul(half, builder.fmul(v, v)) for v in (low, high)]
            return [outer[0], middle, outer[1]]

        wx, wy, wz = (weights(d) for d in offsets)
        row = ir.Constant(FOUR, [0.0] * 4)
        for n, w in enumerate(wz):
            row = builder.insert_element(row, w, ir.Constant(ir.IntType(32), n))
        plane = builder.mul(width, width)
        for i in range(3):
            slab = builder.add(place, builder.mul(plane, ir.Constant(ir.IntType(64), i)))
            x = builder.fmul(m, wx[i])
            for j in range(3):
                at = builder.gep(array.data, [builder.add(slab, builder.mul(width, ir.Constant(ir.IntType(64), j)))])
                _add_at(builder, at, FOUR, builder.fmul(_all(builder, builder.fmul(x, wy[j]), FOUR), row, flags=FLAGS))
        return context.get_dummy_value()

    return signature, code


def _root(builder: Any, value: Any) -> Any:
    """Square roots of eight numbers."""
    name, kind = "llvm.sqrt.v8f32", ir.FunctionType(EIGHT, [EIGHT])
    function = builder.module.globals.get(name) or ir.Function(builder.module, kind, name)
    return builder.call(function, [value])


def _row_of_eight(context: Any, builder: Any, kind: Any, line: Any, place: Any, first: Any) -> tuple[Any, Any]:
    """Pointer to eight numbers of a line, and eight numbers from `first` on, one apart."""
    held = context.make_array(kind)(context, builder, line)
    at = builder.bitcast(builder.gep(held.data, [place]), EIGHT.as_pointer())
    return at, builder.fadd(_all(builder, first), ir.Constant(EIGHT, [float(n) for n in range(8)]))


@intrinsic
def lower_to_distance(typing_context, line, place, first, across, radius, unit):  # type: ignore[no-untyped-def]
    """Lower eight numbers of a line to (sqrt(across + d^2) - radius) unit, d being first, first + 1 and so on.

    Parameters
    ----------
    line : float32 (n,), C order; place : unsigned, of the first of them, at most n - 8; the others float32
    """
    f = types.float32
    signature = types.void(line, types.uint64, f, f, f, f)

    def code(context: Any, builder: Any, signature: Any, args: Any) -> Any:
        at, d = _row_of_eight(context, builder, signature.args[0], *args[:3])
        across, radius, unit = (_all(builder, v) for v in args[3:])
        squared = builder.fadd(across, builder.fmul(d, d), flags=FLAGS)
        own = builder.fmul(builder.fsub(_root(builder, squared), radius), unit)
        held = builder.load(at, align=4)
        builder.store(builder.select(builder.fcmp_ordered("<", own, held), own, held), at, align=4)
        return context.get_dummy_value()

    return signature, code


@intrinsic
def add_wendland(typing_context, line, place, first, c, b, a, share):  # type: ignore[no-untyped-def]
    """Add share (1 - s)^4 (1 + 4 s) to eight numbers of a line; s^2 = c + 2 b d + a d^2 within 0 and 1.

    Parameters
    ----------
    line : float32 (n,), C order; place : unsigned, of the first of them, at most n - 8; the others float32
    first : d of the first; the others' are one apart
    """
    f = types.float32
    signature = types.void(line, types.uint64, f, f, f, f, f)

    def code(context: Any, builder: Any, signature: Any, args: Any) -> Any:
        at, d = _row_of_eight(context, builder, signature.args[0], *args[:3])
        c, b, a, share = (_all(builder, v) for v in args[3:])
        none, one, four, five = (ir.Constant(EIGHT, [v] * 8) for v in (0.0, 1.0, 4.0, 5.0))
        slope = builder.fadd(builder.fadd(b, b), builder.fmul(a, d), flags=FLAGS)
        squared = builder.fadd(c, builder.fmul(slope, d), flags=FLAGS)
        squared = builder.select(builder.fcmp_ordered(">", squared, none), squared, none)
        squared = builder.select(builder.fcmp_ordered("<", squared, one), squared, one)
        rest = builder.fsub(one, _root(builder, squared))
        power = builder.fmul(rest, rest)
        power = builder.fmul(builder.fmul(power, power), builder.fsub(five, builder.fmul(four, rest)))
        held = builder.load(at, align=4)
        builder.store(builder.fadd(held, builder.fmul(power, share)), at, align=4)
        return context.get_dummy_value()

    return signature, code


DOUBLE = ir.DoubleType()
EIGHT_DOUBLE = ir.VectorType(DOUBLE, 8)
WHOLE = ir.IntType(32)


def _lanes(*order: int) -> Any:
    return ir.Constant(ir.VectorType(WHOLE, 8), list(order))


def _bits(builder: Any, mask: Any) -> Any:
    """Eight truth values from the low bits of an integer."""
    return builder.bitcast(builder.trunc(mask, ir.IntType(8)), ir.VectorType(ir.IntType(1), 8))


class _Pencil:
    """Loads one row of a matrix on pencils (see `basin.grid.pencils`) while code is made."""

    def __init__(self, context: Any, builder: Any, kinds: Any, arrays: Any, row: Any, plain: bool, double: bool):
        self.builder, self.plain, self.double, self.row = builder, plain, double, row
        data = [context.make_array(kind)(context, builder, a).data for kind, a in zip(kinds, arrays, strict=True)]
        self.value, self.x, self.y, self.z, self.links = data

    def place(self, data: Any, row: Any) -> Any:
        wide = ir.IntType(64)
        row = row if row.type == wide else self.builder.zext(row, wide)
        return self.builder.gep(data, [self.builder.mul(row, ir.Constant(wide, 8))])

    def vector(self, data: Any, row: Any) -> Any:
        single = data.type.pointee == FLOAT
        place = self.builder.bitcast(self.place(data, row), (EIGHT if single else EIGHT_DOUBLE).as_pointer())
        loaded = self.builder.load(place, align=4 if single else 8)
        return self.builder.fpext(loaded, EIGHT_DOUBLE) if single and self.double else loaded

    def store(self, data: Any, what: Any) -> None:
        place = self.builder.bitcast(self.place(data, self.row), what.type.as_pointer())
        self.builder.store(what, place, align=4 if what.type.element == FLOAT else 8)

    def _with(self, vector: Any, lane: Any, data: Any, place: Any) -> Any:
        """The vector with what lies at a place of an array put into a lane."""
        one = self.builder.load(self.builder.gep(data, [self.builder.zext(place, ir.IntType(64))]))
        if self.double and one.type == FLOAT:
            one = self.builder.fpext(one, DOUBLE)
        return self.builder.insert_element(vector, one, lane)

    def link(self, column: int) -> Any:
        links = self.place(self.links, self.row)
        return self.builder.load(self.builder.gep(links, [ir.Constant(ir.IntType(64), column)]))

    def neighbours(self, own: Any) -> list[tuple[Any, Any]]:
        """Pairs (weights, values) of the eight cells' neighbours in all six directions; weights None for ones."""
        b = self.builder
        found = []
        for data, column in ((self.x, 0), (self.y, 2)):
            below, above = self.link(column), self.link(column + 1)
            found.append((None if self.plain else self.vector(data, self.row), self.vector(self.value, below)))
            found.append((None if self.plain else self.vector(data, above), self.vector(self.value, above)))
        before, after = self.link(4), self.link(5)
        low, high = ir.Constant(WHOLE, 0), ir.Constant(WHOLE, 7)
        if not self.plain:
            ends = self.link(6)
            low = b.and_(ends, high)
            high = b.and_(b.lshr(ends, ir.Constant(WHOLE, 4)), high)
        down, up = _lanes(0, 0, 1, 2, 3, 4, 5, 6), _lanes(1, 2, 3, 4, 5, 6, 7, 7)
        below = self._with(b.shuffle_vector(own, own, down), low, self.value, before)
        above = self._with(b.shuffle_vector(own, own, up), high, self.value, after)
        if self.plain:
            return [*found, (None, below), (None, above)]
        z = self.vector(self.z, self.row)
        weight = self._with(b.shuffle_vector(z, z, up), high, self.z, after)
        return [*found, (z, below), (weight, above)]

    def live(self, what: Any) -> Any:
        """Zero in lanes without an unknown."""
        if self.plain:
            return what
        return self.builder.select(_bits(self.builder, self.link(7)), what, ir.Constant(what.type, [0.0] * 8))

    def plus(self, total: Any, weight: Any, value: Any) -> Any:
        """total + weight * value"""
        if weight is not None:
            value = self.builder.fmul(weight, value, flags=FLAGS)
        return self.builder.fadd(total, value, flags=FLAGS)


def _in_both_ways(work: Any, plain: Any) -> Any:
    """Code of `work(context, builder, kinds, arguments, plain)`, made twice: the last argument chooses."""

    def code(context: Any, builder: Any, signature: Any, args: Any) -> Any:
        with builder.if_else(builder.trunc(args[-1], ir.IntType(1))) as (simple, general):
            with simple:
                work(context, builder, signature.args, args, True)
            with general:
                work(context, builder, signature.args, args, False)
        return context.get_dummy_value()

    return code


def _data(context: Any, builder: Any, kinds: Any, args: Any, *which: int) -> list[Any]:
    return [context.make_array(kinds[n])(context, builder, args[n]).data for n in which]


@intrinsic
def relax_pencil(  # type: ignore[no-untyped-def]
    typing_context, source, target, x, y, z, right, inverse, links, row, mask, plain
):
    """Solve the equations of one pencil's cells for their own values, in the lanes of a mask.

    target[row] = (right[row] + sum of weight * source at neighbours) * inverse[row] in the mask's lanes, else source's.
    Where `plain`, all weights are 1.
    """
    given = (source, target, x, y, z, right, inverse, links)
    signature = types.void(*given, types.uint64, types.uint32, types.boolean)

    def work(context: Any, builder: Any, kinds: Any, args: Any, plain: bool) -> None:
        pick = (0, 2, 3, 4, 7)
        p = _Pencil(context, builder, [kinds[n] for n in pick], [args[n] for n in pick], args[8], plain, False)
        target, right, inverse = _data(context, builder, kinds, args, 1, 5, 6)
        own = p.vector(p.value, p.row)
        total = p.vector(right, p.row)
        for weight, value in p.neighbours(own):
            total = p.plus(total, weight, value)
        share = ir.Constant(EIGHT, [1.0 / 6.0] * 8) if plain else p.vector(inverse, p.row)
        found = builder.fmul(total, share)
        p.store(target, builder.select(_bits(builder, args[9]), found, own))

    return signature, _in_both_ways(work, plain)


@intrinsic
def defect_of_pencil(  # type: ignore[no-untyped-def]
    typing_context, value, x, y, z, diagonal, right, links, row, out, plain
):
    """out[row] = right[row] - diagonal[row] * value[row] + sum of weight * value at neighbours, all float32.

    Where `plain`, all weights are 1 and the diagonal is 6.
    """
    signature = types.void(value, x, y, z, diagonal, right, links, types.uint64, out, types.boolean)

    def work(context: Any, builder: Any, kinds: Any, args: Any, plain: bool) -> None:
        pick = (0, 1, 2, 3, 6)
        p = _Pencil(context, builder, [kinds[n] for n in pick], [args[n] for n in pick], args[7], plain, False)
        diagonal, right, out = _data(context, builder, kinds, args, 4, 5, 8)
        own = p.vector(p.value, p.row)
        whole = ir.Constant(EIGHT, [6.0] * 8) if plain else p.vector(diagonal, p.row)
        total = builder.fsub(p.vector(right, p.row), builder.fmul(whole, own, flags=FLAGS), flags=FLAGS)
        for weight, value in p.neighbours(own):
            total = p.plus(total, weight, value)
        p.store(out, p.live(total))

    return signature, _in_both_ways(work, plain)


@intrinsic
def product_of_pencil(  # type: ignore[no-untyped-def]
    typing_context, value, x, y, z, surface, links, row, out, sums, plain
):
    """out[row] = surface[row] * value[row] + sum of weight * (value - value at neighbours), in float64.

    Adds value[row] * out[row] to `sums` (8,), float64. Where `plain`, weights are 1 and the surface is 0.
    """
    signature = types.void(value, x, y, z, surface, links, types.uint64, out, sums, types.boolean)

    def work(context: Any, builder: Any, kinds: Any, args: Any, plain: bool) -> None:
        pick = (0, 1, 2, 3, 5)
        p = _Pencil(context, builder, [kinds[n] for n in pick], [args[n] for n in pick], args[6], plain, True)
        surface, out, sums = _data(context, builder, kinds, args, 4, 7, 8)
        own = p.vector(p.value, p.row)
        total = ir.Constant(EIGHT_DOUBLE, [0.0] * 8) if plain else builder.fmul(p.vector(surface, p.row), own)
        for weight, value in p.neighbours(own):
            total = p.plus(total, weight, builder.fsub(own, value))
        total = p.live(total)
        p.store(out, total)
        held = builder.bitcast(sums, EIGHT_DOUBLE.as_pointer())
        more = builder.fadd(builder.load(held, align=8), builder.fmul(own, total, flags=FLAGS), flags=FLAGS)
        builder.store(more, held, align=8)

    return signature, _in_both_ways(work, plain)
