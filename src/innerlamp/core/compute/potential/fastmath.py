"""Branch-free logarithm and arctangent that the compiler can run several at a time.

The library functions are called one value at a time; these rational approximations (Moshier,
Cephes Math Library, 1989: ``log`` and ``atan``) are inlined into the loops and vectorised.
Largest differences from the library functions over the range used: a few 1e-15.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, cast

import numpy as np
from llvmlite import ir
from numba import types
from numba.extending import intrinsic

from ..compiled import compiled

# What the compiler itself writes out; its decorator has no types.
_builtin = cast(Callable[[Callable[..., Any]], Callable[..., Any]], intrinsic)


@_builtin
def _bits(typingctx: Any, value: Any) -> Any:
    def codegen(context: Any, builder: Any, signature: Any, args: Any) -> Any:
        return builder.bitcast(args[0], ir.IntType(64))

    return types.int64(types.float64), codegen


@_builtin
def _from_bits(typingctx: Any, value: Any) -> Any:
    def codegen(context: Any, builder: Any, signature: Any, args: Any) -> Any:
        return builder.bitcast(args[0], ir.DoubleType())

    return types.float64(types.int64), codegen


@compiled(forceinline=True, error_model="numpy")
def fast_log(x):  # type: ignore[no-untyped-def]
    """Natural logarithm of a positive normal number."""
    bits = _bits(x)
    exponent = ((bits >> 52) & 0x7FF) - 1022
    m = _from_bits((bits & 0x000FFFFFFFFFFFFF) | 0x3FE0000000000000)
    small = m < 0.70710678118654752440
    m = m + m if small else m
    e = float(exponent) - (1.0 if small else 0.0)
    x1 = m - 1.0
    z = x1 * x1
    p = (
        (
            ((1.01875663804580931796e-4 * x1 + 4.97494994976747001425e-1) * x1 + 4.70579119878881725854e0) * x1
            + 1.44989225341610930846e1
        )
        * x1
        + 1.79368678507819816313e1
    ) * x1 + 7.70838733755885391666e0
    q = (
        (((x1 + 1.12873587189167450590e1) * x1 + 4.52279145837532221105e1) * x1 + 8.29875266912776603211e1) * x1
        + 7.11544750618563894466e1
    ) * x1 + 2.31251620126765340583e1
    y = x1 * (z * p / q) - e * 2.121944400546905827679e-4 - 0.5 * z
    return x1 + y + e * 0.693359375


@compiled(forceinline=True, error_model="numpy")
def fast_atan(x):  # type: ignore[no-untyped-def]
    """Arctangent of any number."""
    a = abs(x)
    large = a > 2.41421356237309504880
    medium = a > 0.66
    n = -1.0 if large else (a - 1.0 if medium else a)
    d = a if large else (a + 1.0 if medium else 1.0)
    base = 1.57079632679489661923 if large else (0.78539816339744830962 if medium else 0.0)
    more = 6.123233995736765886130e-17 if large else (3.061616997868382943065e-17 if medium else 0.0)
    t = n / d
    z = t * t
    p = (
        ((-8.750608600031904122785e-1 * z - 1.615753718733365076637e1) * z - 7.500855792314704667340e1) * z
        - 1.228866684490136173410e2
    ) * z - 6.485021904942025371773e1
    q = (
        (((z + 2.485846490142306297962e1) * z + 1.650270098316988542046e2) * z + 4.328810604912902668951e2) * z
        + 4.853903996359136964868e2
    ) * z + 1.945506571482613964425e2
    y = base + (t * (z * p / q) + t + more)
    return -y if x < 0 else y


@compiled(cache=True, error_model="numpy")
def log_array(x: np.ndarray, out: np.ndarray) -> None:
    """`fast_log` of an array, for checking it.

    Plain numbers of shape (n,).
    """
    for i in range(x.size):
        out[i] = fast_log(x[i])


@compiled(cache=True, error_model="numpy")
def atan_array(x: np.ndarray, out: np.ndarray) -> None:
    """`fast_atan` of an array, for checking it.

    Plain numbers of shape (n,).
    """
    for i in range(x.size):
        out[i] = fast_atan(x[i])
