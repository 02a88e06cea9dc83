"""The computation: panels, methods, backtests, reconciliation and bands. Knows no server and no screen."""

import numpy as np  # noqa: F401  its linear algebra has to be there to be told
import scipy.linalg  # noqa: F401
from threadpoolctl import threadpool_limits

# Threads are ours, a chunk of series each. Those of the linear algebra library would add up in another order on another
# number of cores, and the last digits of a study would hang on the machine.
threadpool_limits(limits=1, user_api="blas")
