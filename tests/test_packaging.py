"""What ships beside the program: desktop entry, file types, icons, thumbnails, services, bill of materials."""

import configparser
import json
import re
import subprocess
import sys
from importlib.metadata import distributions
from pathlib import Path
from xml.etree import ElementTree

import numpy as np
import pytest
from PIL import Image

import hemtra as package
from hemtra import HeightMap, Scan, save_plan, save_scan
from hemtra.cli import app
from hemtra.commands.thumbnail import save_thumbnail
from hemtra.core.errors import HemtraError
from makers import step_plan

ROOT = Path(__file__).parents[1]
SHARE = ROOT / "packaging" / "share"
MIME = "{http://www.freedesktop.org/standards/shared-mime-info}"


def entries(path):
    held = configparser.ConfigParser(interpolation=None, delimiters="=")
    held.optionxform = str
    held.read(path)
    return held


def test_file_types_of_the_desktop_entry_are_declared_with_icons_and_suffixes():
    types = ElementTree.parse(SHARE / "mime/packages/org.hemtra.Hemtra.xml").getroot()
    declared = {one.get("type"): one for one in types.iter(f"{MIME}mime-type")}
    desktop = entries(SHARE / "applications/org.hemtra.Hemtra.desktop")["Desktop Entry"]
    assert set(desktop["MimeType"].strip(";").split(";")) == set(declared)
    assert {one.find(f"{MIME}glob").get("pattern") for one in declared.values()} == {
        "*.hplan",
        "*.hstation",
        "*.x3p",
    }
    icons = SHARE / "icons/hicolor/scalable"
    for name in [f"mimetypes/{one.find(f'{MIME}icon').get('name')}" for one in declared.values()] + [
        f"apps/{desktop['Icon']}"
    ]:
        assert ElementTree.parse(icons / f"{name}.svg").getroot().get("viewBox") == "0 0 64 64"
    about = ElementTree.parse(SHARE / "metainfo/org.hemtra.Hemtra.metainfo.xml").getroot()
    assert {one.text for one in about.iter("mediatype")} == set(declared)
    assert next(about.iter("release")).get("version") == package.__version__


def test_what_is_started_from_outside_are_commands_that_exist():
    known = {command.name or command.callback.__name__ for command in app.registered_commands}
    started = [
        entries(path)[part]["Exec"]
        for path, part in (
            (SHARE / "applications/org.hemtra.Hemtra.desktop", "Desktop Entry"),
            (SHARE / "applications/org.hemtra.Hemtra.desktop", "Desktop Action demo"),
            (SHARE / "thumbnailers/org.hemtra.Hemtra.thumbnailer", "Thumbnailer Entry"),
        )
    ]
    for path in (ROOT / "packaging/systemd").glob("*.service"):
        text = path.read_text()
        started.append(re.search(r"^ExecStart=/usr/bin/(.*)$", text, re.MULTILINE)[1])
    for line in started:
        words = [word for word in line.split() if not word.startswith("-")]
        assert words[0] == "hemtra"
        assert words[1] in known, line


@pytest.mark.parametrize("shape", [(60, 80), (200, 10), (1, 1)])
def test_a_thumbnail_shows_a_scan_or_a_plan(tmp_path, shape):
    data = HeightMap(np.add.outer(np.arange(shape[0]), np.arange(shape[1])) * 0.1, dx=0.1, dy=0.1)
    save_scan(Scan(data), tmp_path / "a.x3p")
    save_plan(step_plan(), tmp_path / "a.hplan", Scan(data))
    for name in ("a.x3p", "a.hplan"):
        save_thumbnail(tmp_path / name, tmp_path / "out.png", 64)
        with Image.open(tmp_path / "out.png") as image:
            assert max(image.size) in (63, 64, 65, 1)
            assert image.mode == "RGBA"
    save_plan(step_plan(), tmp_path / "none.hplan")
    with pytest.raises(HemtraError, match="no reference scan"):
        save_thumbnail(tmp_path / "none.hplan", tmp_path / "none.png", 64)
    assert not (tmp_path / "none.png").exists()
    save_scan(Scan(HeightMap(np.full((5, 5), np.nan))), tmp_path / "empty.x3p")
    save_thumbnail(tmp_path / "empty.x3p", tmp_path / "empty.png", 64)


def test_the_bill_of_materials_lists_what_is_installed_with_versions():
    folder = next(Path(p) for p in sys.path if (Path(p) / "numpy").is_dir())
    made = subprocess.run(
        [sys.executable, str(ROOT / "tools/sbom.py"), str(folder)], capture_output=True, text=True, check=True
    )
    held = json.loads(made.stdout)
    assert (held["bomFormat"], held["specVersion"]) == ("CycloneDX", "1.5")
    listed = {one["name"]: one for one in held["components"]}
    installed = {one.metadata["Name"]: one.version for one in distributions(path=[str(folder)])}
    assert {name: one["version"] for name, one in listed.items()} == {
        name: version for name, version in installed.items() if name != "hemtra"
    }
    assert listed["numpy"]["purl"] == f"pkg:pypi/numpy@{np.__version__}"
    assert sum("licenses" in one for one in listed.values()) > len(listed) / 2
