"""Prints docs/kind-accuracy.md: bias and spread of every kind on analytic surfaces, without and with noise."""

import sys
from pathlib import Path

import numpy as np

sys.path.insert(0, str(Path(__file__).parent))
from kind_cases import BLUR, CASES, NOISE, PITCH

POSES, SEEDS = 40, 100
SHOWN = {"mm": (1000.0, "µm"), "°": (1000.0, "m°"), "%": (1.0, "%"), "mm²": (1.0, "mm²"), "mm³": (1.0, "mm³")}

print(
    f"""# Accuracy of every kind

Made by `.venv/bin/python tools/kind_accuracy.py > docs/kind-accuracy.md`. Each kind measures an analytic
surface in a random place, direction and tilt, on a grid of {PITCH} mm; edges are softened by a light spot of
{BLUR} mm standard deviation. All numbers are measured minus true. Noise-free: the mean and the largest of
{POSES} poses. With the noise of the Sim 130, {1000 * NOISE:.0f} µm a point, quantised to 1 µm: the mean of
{SEEDS} poses with other noise each, the spread of one measurement, and by how many standard errors the mean is
off.

| kind | noise-free | largest | to reach | with noise | spread (1 σ) | standard errors |
|---|---:|---:|---:|---:|---:|---:|"""
)
for case in CASES:
    free = np.array([case.error(np.random.default_rng(k), 0.0) for k in range(POSES)])
    noisy = np.array([case.error(np.random.default_rng(k), 1.0) for k in range(SEEDS)])
    factor, unit = SHOWN[case.unit]
    off = noisy.mean() / (noisy.std(ddof=1) / np.sqrt(SEEDS))
    bound = "" if case.bound is None else f"{factor * case.bound:g} {unit}"
    print(
        f"| {case.name} | {factor * free.mean():+.2f} {unit} | {factor * np.abs(free).max():.2f} {unit}"
        f" | {bound}"
        f" | {factor * noisy.mean():+.2f} {unit} | {factor * noisy.std(ddof=1):.2f} {unit} | {off:+.1f} |"
    )
print(
    """
Coplanarity, parallelism and the distance from an intersection are never below zero, so noise adds to them.
The circle has the slope of its rim from the heights beside its edge, which is a few percent too steep. The
least-squares line agrees with the certified values of the Norris data of the NIST Statistical Reference
Datasets to 1e-11, and the circle with the geometric fit printed by Gander, Golub and Strebel (1994), as
`tests/core/test_accuracy.py` checks; the minimum-zone flatness is solved by linear programming and never
above the least-squares value (`tests/core/test_quantities.py`)."""
)
