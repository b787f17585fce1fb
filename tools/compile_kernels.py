"""Runs each compiled kernel once, so that its machine code is in the cache before anybody waits for it."""

import numpy as np

from hemtra import HeightMap, inspect
from hemtra.core.scan.picture import View, grey_picture, picture
from hemtra.core.station.station import PartPresentEye, SensorMount, Station
from hemtra.core.station.travel import LinearEncoder, Travel
from hemtra.virtual.cover import make_cover
from hemtra.virtual.demo import demo_plan
from hemtra.virtual.sensor import scan_cover

station = Station(
    name="set-up",
    sensor=SensorMount(model="Sim 130", stand_off=195.0),
    travel=Travel(encoder=LinearEncoder(mm_per_pulse=0.08), counts_per_profile=12, length=140.0),
    eye=PartPresentEye(distance=80.0, lead=30.0),
)
scan = scan_cover(make_cover(1), station)
inspect(demo_plan(), scan)
view = View(-70.0, 70.0, 1.0, 140, 140)
picture(scan.data, view, np.zeros((256, 3), np.uint8), -6.0, 9.0)
grey_picture(scan.data, view)
# scans of other programs come writable and without intensity; numba compiles those apart
inspect(demo_plan(), HeightMap(np.array(scan.data.z), dx=0.1, dy=1.0, x0=-69.0, y0=-70.0))
