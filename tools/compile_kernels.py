"""Compiles all kernels of this checkout, so that nobody waits for them later."""

from hemtra.kernel_cache import is_warm
from hemtra.virtual.warm_up import warm_up

if __name__ == "__main__":
    if not is_warm():
        print("Compiling once, which takes about a minute …", flush=True)
    warm_up()
