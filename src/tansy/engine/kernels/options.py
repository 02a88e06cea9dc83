"""How kernels are compiled.

NaN means missing, so floating-point shortcuts that assume there are no NaNs are left out; the four that are allowed
let sums be vectorised.
"""

from typing import Any

KERNEL: dict[str, Any] = {
    "nogil": True,
    "cache": True,
    "error_model": "numpy",
    "fastmath": {"contract", "nsz", "arcp", "reassoc"},
    "_nrt": True,
}
"""Called from Python."""

PART = KERNEL | {"no_cpython_wrapper": True, "no_cfunc_wrapper": True}
"""Called by kernels alone: what would unpack Python's arguments, long code for tuples of arrays, is not compiled."""

BORROWING = PART | {"_nrt": False}
"""A part that neither makes an array nor returns one. References to those it is given are not counted: two atomic
instructions for each array and call took a quarter of the search of ARIMA, and more where threads share arrays. Numba
refuses to compile one that would have to make an array, be it for an assignment from slice to slice."""

INLINED = PART | {"inline": "always"}
"""A part with one caller, compiled as if it stood there: every layer of kernels compiles again what lies below it."""

AS_WRITTEN: dict[str, Any] = {"fastmath": {"contract", "nsz", "arcp"}}
"""Sums in the order written. Where a sum may be vectorised, the loop is compiled twice, for arrays that are found apart
and for others, and the two sum in different orders: the last bit of a fit would hang on where its arrays lie in memory.
"""
