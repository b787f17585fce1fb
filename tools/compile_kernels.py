"""Runs each compiled kernel once, so that its machine code is in the cache before anybody waits for it."""

import numpy as np

from hemtra import HeightMap, inspect
from hemtra.core.scan.last_places import lost_places, restore_places
from hemtra.core.scan.picture import View, grey_picture, picture
from hemtra.core.scan.prepare import fill_holes, remove_spikes, smooth_mean
from hemtra.core.station.calibration import Calibration
from hemtra.core.station.starts import widest_over
from hemtra.virtual.cover import make_cover
from hemtra.virtual.demo import STATION, demo_plan
from hemtra.virtual.parts import plate
from hemtra.virtual.runner_demo import RUNNERS, runner_plan
from hemtra.virtual.sensor import scan_part

coarse = STATION.with_part("travel", counts_per_profile=12)
scan = scan_part(make_cover(1), coarse)
# calibrated, yawed and with a part of another kind
askew = coarse.with_part("sensor", calibration=Calibration(roll=0.1, yaw=0.1))
scan_part(plate(), askew)
widest_over(scan.data.z, 0.0)
fill_holes(scan.data.z, (3, 3))
smooth_mean(scan.data.z, 3, 3)
patterns = scan.data.z.reshape(-1).view(np.int32)
restore_places(patterns.copy(), np.frombuffer(lost_places(patterns, patterns.copy()).tobytes(), np.uint8))
for size in (3, 5, 7):
    remove_spikes(scan.data.z, 0.3, size)
inspect(demo_plan(), scan)
inspect(runner_plan(), RUNNERS[0].scan())
view = View(-70.0, 70.0, 1.0, 140, 140)
picture(scan.data, view, np.zeros((256, 3), np.uint8), -6.0, 9.0)
grey_picture(scan.data, view)
# scans of other programs come writable and without intensity; numba compiles those apart
inspect(demo_plan(), HeightMap(np.array(scan.data.z), dx=0.1, dy=1.0, x0=-69.0, y0=-70.0))
