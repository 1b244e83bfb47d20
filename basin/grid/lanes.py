"""Eight corners of a cell at once: vector instructions that the compiler does not find by itself."""

from __future__ import annotations

from typing import Any

from llvmlite import ir
from numba import types
from numba.extending import intrinsic

FLOAT = ir.FloatType()
EIGHT = ir.VectorType(FLOAT, 8)
FLAGS = ("contract",)  # a product and a sum may round once


def _all(builder: Any, value: Any) -> Any:
    """A vector of eight times the same value."""
    one = builder.insert_element(ir.Constant(EIGHT, ir.Undefined), value, ir.Constant(ir.IntType(32), 0))
    return builder.shuffle_vector(
        one, ir.Constant(EIGHT, ir.Undefined), ir.Constant(ir.VectorType(ir.IntType(32), 8), [0] * 8)
    )


def _corner(bit: int) -> Any:
    """0 or 1 for each corner of a cell, x changing slowest."""
    return ir.Constant(EIGHT, [float((q >> bit) & 1) for q in range(8)])


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
        for step, what in ((0, builder.fmul(weight, value, flags=FLAGS)), (8, weight)):
            place = builder.bitcast(builder.gep(first, [ir.Constant(ir.IntType(64), step)]), EIGHT.as_pointer())
            held = builder.load(place, align=4)
            builder.store(builder.fadd(held, what, flags=FLAGS), place, align=4)
        return context.get_dummy_value()

    return signature, code
