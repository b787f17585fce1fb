"""Where machine code is kept when the package cannot be written, as by a service account without a home."""

import importlib.util
import os
import subprocess
import sys
from pathlib import Path

import pytest
from numba.core.caching import IndexDataCacheFile, _CacheLocator

from hemtra import kernel_cache
from hemtra.commands.compiling import say_when_cold
from hemtra.kernel_cache import VARIABLE, cache_folder, is_warm

AGAIN = """
import sys
from pathlib import Path
import numpy as np
from numba.core.dispatcher import Dispatcher
from hemtra import inspect, load_plan, load_scan, save_scan
from hemtra.core.filters.filtering import fill_holes, remove_spikes, smooth_mean
from hemtra.core.rendering.picture import View, picture
from hemtra.virtual import warm_up

def made():
    modules = [m for m in list(sys.modules.values()) if getattr(m, "__name__", "").startswith("hemtra")]
    loops = {one for m in modules for one in vars(m).values() if isinstance(one, Dispatcher)}
    return {(one.py_func.__qualname__, str(types)) for one in loops for types in one.signatures}

for work in warm_up.WORKS:
    work()
before, demo, path = made(), Path(sys.argv[1]), Path(sys.argv[2])
for plan, part in (("rain-pump-cover", "tray/cover-05"), ("drawer-runner", "runners/runner-01")):
    inspect(load_plan(demo / f"{plan}.hplan"), scan := load_scan(demo / f"{part}.x3p"))
    save_scan(scan, path)
    z = load_scan(path).data.z
    fill_holes(z, (3, 3)), remove_spikes(z, 0.3, 5), smooth_mean(z, 3, 3)
    picture(scan.data, View(-20.0, 20.0, 0.2, 140, 140), np.zeros((256, 3), np.uint8), -6.0, 9.0)
print(sorted(made() - before))
"""


def test_what_was_warmed_up_is_not_compiled_again(demo_folder, tmp_path):
    """Arrays that can be written to and those that cannot are two types, for which loops are compiled apart."""
    command = [sys.executable, "-c", AGAIN, demo_folder, tmp_path / "again.x3p"]
    assert subprocess.run(command, capture_output=True, text=True, check=True).stdout == "[]\n"


def test_kept_code_runs_without_what_compiles_it(demo_folder):
    """That loads half of SciPy, which would take as long as measuring a part."""
    measured = "import sys; from hemtra import inspect, load_plan, load_scan;"
    measured += "print(inspect(load_plan(sys.argv[1]), load_scan(sys.argv[2])).verdict, *sys.modules)"
    files = demo_folder / "rain-pump-cover.hplan", demo_folder / "tray/cover-05.x3p"

    def loaded():
        command = [sys.executable, "-c", measured, *files]
        return subprocess.run(command, capture_output=True, text=True, check=True).stdout.split()

    loaded()  # compiles what is missing
    found = loaded()
    assert {"FAIL", "numba"} <= set(found)
    assert "numba.np.arraymath" not in found


@pytest.fixture
def closed(monkeypatch, tmp_path):
    """The package cannot be written; the user's cache and the temporary folder are ours."""
    monkeypatch.delenv(VARIABLE, raising=False)
    cache, temporary = tmp_path / "cache", tmp_path / "tmp"
    temporary.mkdir()
    monkeypatch.setattr(kernel_cache.platformdirs, "user_cache_dir", lambda name: str(cache / name))
    monkeypatch.setattr(kernel_cache, "PACKAGE", tmp_path / "package")
    (tmp_path / "package" / "core" / "__pycache__").mkdir(parents=True)
    monkeypatch.setattr(kernel_cache.tempfile, "gettempdir", lambda: str(temporary))
    real = os.access
    monkeypatch.setattr(os, "access", lambda path, mode: path != kernel_cache.PACKAGE and real(path, mode))
    return cache, temporary


def test_code_is_kept_beside_the_package_or_where_somebody_says(monkeypatch):
    monkeypatch.delenv(VARIABLE, raising=False)
    assert cache_folder() == ""
    monkeypatch.setenv(VARIABLE, "/somewhere")
    assert cache_folder() == "/somewhere"


def test_without_that_it_is_in_the_users_cache(closed):
    cache, _ = closed
    assert cache_folder() == str(cache / "hemtra" / "kernels")
    assert (cache / "hemtra" / "kernels").stat().st_mode & 0o777 == 0o700


def test_without_a_home_it_is_in_a_folder_of_ours_alone(closed):
    cache, temporary = closed
    cache.write_text("no folder")
    found = cache_folder()
    assert found == str(temporary / f"hemtra-kernels-{os.getuid()}")
    Path(found).rename(temporary / "other")
    Path(found).symlink_to(temporary / "other")
    assert cache_folder() == "", "nor through a link that somebody has put there"
    Path(found).unlink()
    Path(found).write_text("somebody was here before")
    assert cache_folder() == "", "code is not loaded from what is not ours"


def test_the_first_start_says_that_it_compiles(closed, capsys):
    cache, _ = closed
    assert not is_warm()
    say_when_cold()
    assert "compiling once" in capsys.readouterr().err
    (cache / "hemtra" / "kernels" / "a.nbi").write_text("")
    say_when_cold()
    assert capsys.readouterr().err == ""


def test_what_was_compiled_at_installation_is_used_by_who_cannot_write_there(closed, tmp_path):
    """Where the compiler looks for it: in a folder that it names itself, by where the module lies."""
    package = tmp_path / "package" / "core"
    made = {
        "a.f-3.py311.nbi": b"index",
        "a.f-3.py311.1.nbc": b"code",
        "a.f-3.py311.2.nbc": b"more",
        "a.pyc": b"",
    }
    for name, content in made.items():
        (package / "__pycache__" / name).write_bytes(content)
    folder = Path(cache_folder())
    expected = folder / _CacheLocator.get_suitable_cache_subpath(str(package / "a.py"))
    assert {path.name: path.read_bytes() for path in expected.iterdir()} == {
        name: content for name, content in made.items() if name != "a.pyc"
    }
    assert is_warm()
    # it is taken once: what was compiled anew since is not put back
    (expected / "a.f-3.py311.nbi").write_bytes(b"newer")
    cache_folder()
    assert (expected / "a.f-3.py311.nbi").read_bytes() == b"newer"


SOURCE = "from hemtra.core.compiled import compiled\n\n@compiled\ndef doubled(x):\n    return 2.0 * x\n"


@pytest.fixture
def doubled(monkeypatch, tmp_path):
    """The kernel of a module, loaded anew by every call as a start of the program does."""
    (tmp_path / "kernel.py").write_text(SOURCE)

    def load():
        spec = importlib.util.spec_from_file_location("kernel", tmp_path / "kernel.py")
        module = importlib.util.module_from_spec(spec)
        monkeypatch.setitem(sys.modules, "kernel", module)
        spec.loader.exec_module(module)
        return module.doubled

    return load


@pytest.mark.parametrize("content", [b"", b"no code", b"chemtra.virtual.cover_kernels\nGone\n."])
def test_an_index_that_cannot_be_read_is_made_again(doubled, tmp_path, content):
    assert doubled()(2.0) == 4.0
    (index,) = tmp_path.rglob("*.nbi")
    good = index.read_bytes()
    index.write_bytes(content)
    assert doubled()(2.0) == 4.0
    assert index.read_bytes() == good
    again = doubled()
    assert again(2.0) == 4.0
    assert again.stats.cache_hits, "what was compiled anew is kept"


def test_a_full_disk_keeps_nobody_from_measuring(doubled, monkeypatch):
    def full(*_):
        raise OSError(28, "No space left on device")

    monkeypatch.setattr(IndexDataCacheFile, "save", full)
    assert doubled()(2.0) == 4.0
