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
