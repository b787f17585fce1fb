"""Lists what a folder of installed packages holds, as a CycloneDX 1.5 bill of materials.

python tools/sbom.py FOLDER > sbom.cdx.json
"""

import json
import sys
from importlib.metadata import Distribution, distributions
from pathlib import Path
from typing import Any


def component(found: Distribution) -> dict[str, Any]:
    """One package: name, version, licence, and where it comes from."""
    about = found.metadata
    name = about["Name"]
    held: dict[str, Any] = {
        "type": "library",
        "name": name,
        "version": found.version,
        "purl": f"pkg:pypi/{name.lower().replace('_', '-')}@{found.version}",
    }
    licence = about.get("License-Expression")
    words = next((c.rpartition(" :: ")[2] for c in about.get_all("Classifier", []) if "License ::" in c), "")
    if licence:
        held["licenses"] = [{"expression": licence}]
    elif words:
        held["licenses"] = [{"license": {"name": words}}]
    return held


def main(folder: Path) -> None:
    """Print it, in the order of the names."""
    found = sorted(distributions(path=[str(folder)]), key=lambda one: one.metadata["Name"].lower())
    own = next((one for one in found if one.metadata["Name"] == "hemtra"), None)
    print(
        json.dumps(
            {
                "bomFormat": "CycloneDX",
                "specVersion": "1.5",
                "version": 1,
                "metadata": {"component": {**component(own), "type": "application"}} if own else {},
                "components": [component(one) for one in found if one is not own],
            },
            indent=1,
        )
    )


if __name__ == "__main__":
    main(Path(sys.argv[1]))
