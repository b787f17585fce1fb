"""Names for the array types used throughout core."""

from typing import Any, TypeAlias

import numpy as np
from numpy.typing import NDArray

FloatArray: TypeAlias = NDArray[np.floating[Any]]
BoolArray: TypeAlias = NDArray[np.bool_]
IntArray: TypeAlias = NDArray[np.integer[Any]]
Heights: TypeAlias = NDArray[np.float32]
ByteArray: TypeAlias = NDArray[np.uint8]
IndexArray: TypeAlias = NDArray[np.int32]
