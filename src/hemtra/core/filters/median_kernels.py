"""Medians of small windows, by sorting networks written out; made by tools/median_network.py.

Written out, a window is a set of variables and no array: the compiler keeps it in vector registers, many
windows side by side. `rank_filter` says how missing points are paired up.
"""

from __future__ import annotations

import numpy as np

from hemtra.core.arrays import Heights
from hemtra.core.compiled import lean

INFINITY, HALF = np.float32(np.inf), np.float32(0.5)


@lean
def median_rows_3(padded: Heights, first: int, last: int, out: Heights) -> None:
    """Fill rows first to last of out (rows, cols); padded: the map, 1 of NaN around it."""
    for i in range(first, last):
        r0 = padded[i + 0]
        r1 = padded[i + 1]
        r2 = padded[i + 2]
        line = out[i]
        for j in range(out.shape[1]):
            odd = np.int32(0)
            v0 = r0[j + 0]
            gone = v0 != v0
            v0 = (INFINITY if odd != 0 else -INFINITY) if gone else v0
            odd = odd ^ np.int32(gone)
            v1 = r0[j + 1]
            gone = v1 != v1
            v1 = (INFINITY if odd != 0 else -INFINITY) if gone else v1
            odd = odd ^ np.int32(gone)
            v2 = r0[j + 2]
            gone = v2 != v2
            v2 = (INFINITY if odd != 0 else -INFINITY) if gone else v2
            odd = odd ^ np.int32(gone)
            v3 = r1[j + 0]
            gone = v3 != v3
            v3 = (INFINITY if odd != 0 else -INFINITY) if gone else v3
            odd = odd ^ np.int32(gone)
            v4 = r1[j + 1]
            gone = v4 != v4
            v4 = (INFINITY if odd != 0 else -INFINITY) if gone else v4
            odd = odd ^ np.int32(gone)
            v5 = r1[j + 2]
            gone = v5 != v5
            v5 = (INFINITY if odd != 0 else -INFINITY) if gone else v5
            odd = odd ^ np.int32(gone)
            v6 = r2[j + 0]
            gone = v6 != v6
            v6 = (INFINITY if odd != 0 else -INFINITY) if gone else v6
            odd = odd ^ np.int32(gone)
            v7 = r2[j + 1]
            gone = v7 != v7
            v7 = (INFINITY if odd != 0 else -INFINITY) if gone else v7
            odd = odd ^ np.int32(gone)
            v8 = r2[j + 2]
            gone = v8 != v8
            v8 = (INFINITY if odd != 0 else -INFINITY) if gone else v8
            odd = odd ^ np.int32(gone)
            v9 = INFINITY if odd != 0 else -INFINITY
            v0, v1 = min(v0, v1), max(v0, v1)
            v2, v3 = min(v2, v3), max(v2, v3)
            v4, v5 = min(v4, v5), max(v4, v5)
            v6, v7 = min(v6, v7), max(v6, v7)
            v8, v9 = min(v8, v9), max(v8, v9)
            v0, v2 = min(v0, v2), max(v0, v2)
            v1, v3 = min(v1, v3), max(v1, v3)
            v4, v6 = min(v4, v6), max(v4, v6)
            v5, v7 = min(v5, v7), max(v5, v7)
            v1, v2 = min(v1, v2), max(v1, v2)
            v5, v6 = min(v5, v6), max(v5, v6)
            v0, v4 = min(v0, v4), max(v0, v4)
            v1, v5 = min(v1, v5), max(v1, v5)
            v2, v6 = min(v2, v6), max(v2, v6)
            v3, v7 = min(v3, v7), max(v3, v7)
            v2, v4 = min(v2, v4), max(v2, v4)
            v3, v5 = min(v3, v5), max(v3, v5)
            v1, v2 = min(v1, v2), max(v1, v2)
            v3, v4 = min(v3, v4), max(v3, v4)
            v5, v6 = min(v5, v6), max(v5, v6)
            v0, v8 = min(v0, v8), max(v0, v8)
            v1, v9 = min(v1, v9), max(v1, v9)
            v4, v8 = min(v4, v8), max(v4, v8)
            v5, v9 = min(v5, v9), max(v5, v9)
            v2, v4 = min(v2, v4), max(v2, v4)
            v3, v5 = min(v3, v5), max(v3, v5)
            v6, v8 = min(v6, v8), max(v6, v8)
            v3, v4 = min(v3, v4), max(v3, v4)
            v5, v6 = min(v5, v6), max(v5, v6)
            here = r1[j + 1]
            middle = HALF * (v4 + v5) if odd != 0 else v5
            line[j] = middle if here == here else here


@lean
def median_rows_5(padded: Heights, first: int, last: int, out: Heights) -> None:
    """Fill rows first to last of out (rows, cols); padded: the map, 2 of NaN around it."""
    for i in range(first, last):
        r0 = padded[i + 0]
        r1 = padded[i + 1]
        r2 = padded[i + 2]
        r3 = padded[i + 3]
        r4 = padded[i + 4]
        line = out[i]
        for j in range(out.shape[1]):
            odd = np.int32(0)
            v0 = r0[j + 0]
            gone = v0 != v0
            v0 = (INFINITY if odd != 0 else -INFINITY) if gone else v0
            odd = odd ^ np.int32(gone)
            v1 = r0[j + 1]
            gone = v1 != v1
            v1 = (INFINITY if odd != 0 else -INFINITY) if gone else v1
            odd = odd ^ np.int32(gone)
            v2 = r0[j + 2]
            gone = v2 != v2
            v2 = (INFINITY if odd != 0 else -INFINITY) if gone else v2
            odd = odd ^ np.int32(gone)
            v3 = r0[j + 3]
            gone = v3 != v3
            v3 = (INFINITY if odd != 0 else -INFINITY) if gone else v3
            odd = odd ^ np.int32(gone)
            v4 = r0[j + 4]
            gone = v4 != v4
            v4 = (INFINITY if odd != 0 else -INFINITY) if gone else v4
            odd = odd ^ np.int32(gone)
            v5 = r1[j + 0]
            gone = v5 != v5
            v5 = (INFINITY if odd != 0 else -INFINITY) if gone else v5
            odd = odd ^ np.int32(gone)
            v6 = r1[j + 1]
            gone = v6 != v6
            v6 = (INFINITY if odd != 0 else -INFINITY) if gone else v6
            odd = odd ^ np.int32(gone)
            v7 = r1[j + 2]
            gone = v7 != v7
            v7 = (INFINITY if odd != 0 else -INFINITY) if gone else v7
            odd = odd ^ np.int32(gone)
            v8 = r1[j + 3]
            gone = v8 != v8
            v8 = (INFINITY if odd != 0 else -INFINITY) if gone else v8
            odd = odd ^ np.int32(gone)
            v9 = r1[j + 4]
            gone = v9 != v9
            v9 = (INFINITY if odd != 0 else -INFINITY) if gone else v9
            odd = odd ^ np.int32(gone)
            v10 = r2[j + 0]
            gone = v10 != v10
            v10 = (INFINITY if odd != 0 else -INFINITY) if gone else v10
            odd = odd ^ np.int32(gone)
            v11 = r2[j + 1]
            gone = v11 != v11
            v11 = (INFINITY if odd != 0 else -INFINITY) if gone else v11
            odd = odd ^ np.int32(gone)
            v12 = r2[j + 2]
            gone = v12 != v12
            v12 = (INFINITY if odd != 0 else -INFINITY) if gone else v12
            odd = odd ^ np.int32(gone)
            v13 = r2[j + 3]
            gone = v13 != v13
            v13 = (INFINITY if odd != 0 else -INFINITY) if gone else v13
            odd = odd ^ np.int32(gone)
            v14 = r2[j + 4]
            gone = v14 != v14
            v14 = (INFINITY if odd != 0 else -INFINITY) if gone else v14
            odd = odd ^ np.int32(gone)
            v15 = r3[j + 0]
            gone = v15 != v15
            v15 = (INFINITY if odd != 0 else -INFINITY) if gone else v15
            odd = odd ^ np.int32(gone)
            v16 = r3[j + 1]
            gone = v16 != v16
            v16 = (INFINITY if odd != 0 else -INFINITY) if gone else v16
            odd = odd ^ np.int32(gone)
            v17 = r3[j + 2]
            gone = v17 != v17
            v17 = (INFINITY if odd != 0 else -INFINITY) if gone else v17
            odd = odd ^ np.int32(gone)
            v18 = r3[j + 3]
            gone = v18 != v18
            v18 = (INFINITY if odd != 0 else -INFINITY) if gone else v18
            odd = odd ^ np.int32(gone)
            v19 = r3[j + 4]
            gone = v19 != v19
            v19 = (INFINITY if odd != 0 else -INFINITY) if gone else v19
            odd = odd ^ np.int32(gone)
            v20 = r4[j + 0]
            gone = v20 != v20
            v20 = (INFINITY if odd != 0 else -INFINITY) if gone else v20
            odd = odd ^ np.int32(gone)
            v21 = r4[j + 1]
            gone = v21 != v21
            v21 = (INFINITY if odd != 0 else -INFINITY) if gone else v21
            odd = odd ^ np.int32(gone)
            v22 = r4[j + 2]
            gone = v22 != v22
            v22 = (INFINITY if odd != 0 else -INFINITY) if gone else v22
            odd = odd ^ np.int32(gone)
            v23 = r4[j + 3]
            gone = v23 != v23
            v23 = (INFINITY if odd != 0 else -INFINITY) if gone else v23
            odd = odd ^ np.int32(gone)
            v24 = r4[j + 4]
            gone = v24 != v24
            v24 = (INFINITY if odd != 0 else -INFINITY) if gone else v24
            odd = odd ^ np.int32(gone)
            v25 = INFINITY if odd != 0 else -INFINITY
            v0, v1 = min(v0, v1), max(v0, v1)
            v2, v3 = min(v2, v3), max(v2, v3)
            v4, v5 = min(v4, v5), max(v4, v5)
            v6, v7 = min(v6, v7), max(v6, v7)
            v8, v9 = min(v8, v9), max(v8, v9)
            v10, v11 = min(v10, v11), max(v10, v11)
            v12, v13 = min(v12, v13), max(v12, v13)
            v14, v15 = min(v14, v15), max(v14, v15)
            v16, v17 = min(v16, v17), max(v16, v17)
            v18, v19 = min(v18, v19), max(v18, v19)
            v20, v21 = min(v20, v21), max(v20, v21)
            v22, v23 = min(v22, v23), max(v22, v23)
            v24, v25 = min(v24, v25), max(v24, v25)
            v0, v2 = min(v0, v2), max(v0, v2)
            v1, v3 = min(v1, v3), max(v1, v3)
            v4, v6 = min(v4, v6), max(v4, v6)
            v5, v7 = min(v5, v7), max(v5, v7)
            v8, v10 = min(v8, v10), max(v8, v10)
            v9, v11 = min(v9, v11), max(v9, v11)
            v12, v14 = min(v12, v14), max(v12, v14)
            v13, v15 = min(v13, v15), max(v13, v15)
            v16, v18 = min(v16, v18), max(v16, v18)
            v17, v19 = min(v17, v19), max(v17, v19)
            v20, v22 = min(v20, v22), max(v20, v22)
            v21, v23 = min(v21, v23), max(v21, v23)
            v1, v2 = min(v1, v2), max(v1, v2)
            v5, v6 = min(v5, v6), max(v5, v6)
            v9, v10 = min(v9, v10), max(v9, v10)
            v13, v14 = min(v13, v14), max(v13, v14)
            v17, v18 = min(v17, v18), max(v17, v18)
            v21, v22 = min(v21, v22), max(v21, v22)
            v0, v4 = min(v0, v4), max(v0, v4)
            v1, v5 = min(v1, v5), max(v1, v5)
            v2, v6 = min(v2, v6), max(v2, v6)
            v3, v7 = min(v3, v7), max(v3, v7)
            v8, v12 = min(v8, v12), max(v8, v12)
            v9, v13 = min(v9, v13), max(v9, v13)
            v10, v14 = min(v10, v14), max(v10, v14)
            v11, v15 = min(v11, v15), max(v11, v15)
            v16, v20 = min(v16, v20), max(v16, v20)
            v17, v21 = min(v17, v21), max(v17, v21)
            v18, v22 = min(v18, v22), max(v18, v22)
            v19, v23 = min(v19, v23), max(v19, v23)
            v2, v4 = min(v2, v4), max(v2, v4)
            v3, v5 = min(v3, v5), max(v3, v5)
            v10, v12 = min(v10, v12), max(v10, v12)
            v11, v13 = min(v11, v13), max(v11, v13)
            v18, v20 = min(v18, v20), max(v18, v20)
            v19, v21 = min(v19, v21), max(v19, v21)
            v1, v2 = min(v1, v2), max(v1, v2)
            v3, v4 = min(v3, v4), max(v3, v4)
            v5, v6 = min(v5, v6), max(v5, v6)
            v9, v10 = min(v9, v10), max(v9, v10)
            v11, v12 = min(v11, v12), max(v11, v12)
            v13, v14 = min(v13, v14), max(v13, v14)
            v17, v18 = min(v17, v18), max(v17, v18)
            v19, v20 = min(v19, v20), max(v19, v20)
            v21, v22 = min(v21, v22), max(v21, v22)
            v0, v8 = min(v0, v8), max(v0, v8)
            v1, v9 = min(v1, v9), max(v1, v9)
            v2, v10 = min(v2, v10), max(v2, v10)
            v3, v11 = min(v3, v11), max(v3, v11)
            v4, v12 = min(v4, v12), max(v4, v12)
            v5, v13 = min(v5, v13), max(v5, v13)
            v6, v14 = min(v6, v14), max(v6, v14)
            v7, v15 = min(v7, v15), max(v7, v15)
            v16, v24 = min(v16, v24), max(v16, v24)
            v17, v25 = min(v17, v25), max(v17, v25)
            v4, v8 = min(v4, v8), max(v4, v8)
            v5, v9 = min(v5, v9), max(v5, v9)
            v6, v10 = min(v6, v10), max(v6, v10)
            v7, v11 = min(v7, v11), max(v7, v11)
            v20, v24 = min(v20, v24), max(v20, v24)
            v21, v25 = min(v21, v25), max(v21, v25)
            v2, v4 = min(v2, v4), max(v2, v4)
            v3, v5 = min(v3, v5), max(v3, v5)
            v6, v8 = min(v6, v8), max(v6, v8)
            v7, v9 = min(v7, v9), max(v7, v9)
            v10, v12 = min(v10, v12), max(v10, v12)
            v11, v13 = min(v11, v13), max(v11, v13)
            v18, v20 = min(v18, v20), max(v18, v20)
            v19, v21 = min(v19, v21), max(v19, v21)
            v22, v24 = min(v22, v24), max(v22, v24)
            v23, v25 = min(v23, v25), max(v23, v25)
            v1, v2 = min(v1, v2), max(v1, v2)
            v3, v4 = min(v3, v4), max(v3, v4)
            v5, v6 = min(v5, v6), max(v5, v6)
            v7, v8 = min(v7, v8), max(v7, v8)
            v9, v10 = min(v9, v10), max(v9, v10)
            v11, v12 = min(v11, v12), max(v11, v12)
            v13, v14 = min(v13, v14), max(v13, v14)
            v17, v18 = min(v17, v18), max(v17, v18)
            v19, v20 = min(v19, v20), max(v19, v20)
            v21, v22 = min(v21, v22), max(v21, v22)
            v23, v24 = min(v23, v24), max(v23, v24)
            v0, v16 = min(v0, v16), max(v0, v16)
            v1, v17 = min(v1, v17), max(v1, v17)
            v2, v18 = min(v2, v18), max(v2, v18)
            v3, v19 = min(v3, v19), max(v3, v19)
            v4, v20 = min(v4, v20), max(v4, v20)
            v5, v21 = min(v5, v21), max(v5, v21)
            v6, v22 = min(v6, v22), max(v6, v22)
            v7, v23 = min(v7, v23), max(v7, v23)
            v8, v24 = min(v8, v24), max(v8, v24)
            v9, v25 = min(v9, v25), max(v9, v25)
            v8, v16 = min(v8, v16), max(v8, v16)
            v9, v17 = min(v9, v17), max(v9, v17)
            v10, v18 = min(v10, v18), max(v10, v18)
            v11, v19 = min(v11, v19), max(v11, v19)
            v12, v20 = min(v12, v20), max(v12, v20)
            v13, v21 = min(v13, v21), max(v13, v21)
            v14, v22 = min(v14, v22), max(v14, v22)
            v6, v10 = min(v6, v10), max(v6, v10)
            v7, v11 = min(v7, v11), max(v7, v11)
            v12, v16 = min(v12, v16), max(v12, v16)
            v13, v17 = min(v13, v17), max(v13, v17)
            v14, v18 = min(v14, v18), max(v14, v18)
            v10, v12 = min(v10, v12), max(v10, v12)
            v11, v13 = min(v11, v13), max(v11, v13)
            v14, v16 = min(v14, v16), max(v14, v16)
            v11, v12 = min(v11, v12), max(v11, v12)
            v13, v14 = min(v13, v14), max(v13, v14)
            here = r2[j + 2]
            middle = HALF * (v12 + v13) if odd != 0 else v13
            line[j] = middle if here == here else here
