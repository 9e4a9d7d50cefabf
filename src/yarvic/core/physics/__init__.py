"""The laws: pure functions on floats or float64 arrays, SI inside, no state. One topic a file.

`Value` stands for a float or a float64 array; arguments broadcast together and the result has their shape.
"""

from typing import Any

import numpy as np
from numpy.typing import NDArray

FloatArray = NDArray[np.float64]
BoolArray = NDArray[np.bool_]
Value = Any  # float or FloatArray: arithmetic on the union has no useful static type
