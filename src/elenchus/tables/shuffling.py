"""Orders by chance in any database: the numbers of the memory's engine, worked out of halves of 32 bits."""

from __future__ import annotations

from functools import partial
from hashlib import blake2b
from typing import TYPE_CHECKING, TypeAlias

import ibis

if TYPE_CHECKING:
    from collections.abc import Callable

    from ibis.expr import types as ir

__all__ = ["shuffled"]

_LOW = 0xFFFFFFFF
_HALF = 0xFFFF
_Pair: TypeAlias = "tuple[ir.IntegerValue, ir.IntegerValue]"


def shuffled(rows: ir.Table, salt: str, names: tuple[str, str]) -> ir.Table:
    """Return rows with both halves of a number for each digest and a salt; see ``_shuffled`` in engine/order.

    Engines have no whole numbers of 64 bits without a sign, and refuse what overflows: each product is one of
    32 bits and 16. Each step uses the one before many times, and is a relation of its own, which no statement
    writes out: a window keeps them apart.
    """
    start = int.from_bytes(blake2b(salt.encode(), digest_size=8).digest(), "little")
    pair = rows.shuffle_high ^ (start >> 32), rows.shuffle_low ^ (start & _LOW)
    steps: list[Callable[..., _Pair]] = [
        partial(_with_shifted, bits=30),
        partial(_times, factor=0xBF58476D1CE4E5B9),
        partial(_with_shifted, bits=27),
        partial(_times, factor=0x94D049BB133111EB),
        partial(_with_shifted, bits=31),
    ]
    high, low = names
    for step in steps:
        made = dict(zip(names, pair, strict=True))
        rows = rows.mutate(**made, k_apart=ibis.row_number().over(ibis.window()))
        pair = step(rows[high], rows[low])
    return rows.mutate(**dict(zip(names, pair, strict=True))).drop("k_apart")


def _with_shifted(high: ir.IntegerValue, low: ir.IntegerValue, bits: int) -> _Pair:
    """Return a number crossed (exclusive or) with itself shifted right by fewer than 32 bits."""
    moved = ((high << (32 - bits)) & _LOW) | (low >> bits)
    return high ^ (high >> bits), low ^ moved


def _times(high: ir.IntegerValue, low: ir.IntegerValue, factor: int) -> _Pair:
    """Return the lower 64 bits of a product with a constant."""
    f_high, f_low = factor >> 32, factor & _LOW
    first = low * (f_low & _HALF)  # below 2**48
    second = low * (f_low >> 16)
    carried = (first >> 16) + second  # below 2**49
    new_low = ((carried & _HALF) << 16) | (first & _HALF)
    above = carried >> 16
    cross = _low_of(high, f_low) + _low_of(low, f_high)
    return (above + cross) & _LOW, new_low


def _low_of(value: ir.IntegerValue, factor: int) -> ir.IntegerValue:
    """Return the lower 32 bits of a product of two numbers of 32 bits."""
    first = value * (factor & _HALF)
    second = (value * (factor >> 16)) & _HALF
    return (first + (second << 16)) & _LOW
