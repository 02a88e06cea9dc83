"""How every kernel is compiled.

NaN means missing, so floating-point shortcuts that assume there are no NaNs are left out; the four that are allowed
let sums be vectorised.
"""

from typing import Any

KERNEL: dict[str, Any] = {
    "nogil": True,
    "cache": True,
    "error_model": "numpy",
    "fastmath": {"contract", "nsz", "arcp", "reassoc"},
}
