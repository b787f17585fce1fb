"""Compiles all kernels of this checkout, so that nobody waits for them later."""

from hemtra.virtual.warm_up import warm_up

if __name__ == "__main__":
    warm_up()
