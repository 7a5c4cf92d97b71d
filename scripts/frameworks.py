#!/usr/bin/env python3
"""Writes stand-ins for the frameworks of macOS that the program links with: their names and symbols, as text that a
linker reads. The symbols are those that the crates declare; nothing of a framework itself is in them.

    scripts/frameworks.py FOLDER
"""

import json
import pathlib
import re
import subprocess
import sys

# The crates that declare what is in a framework.
CRATES = {
    "core-foundation-sys": "CoreFoundation",
    "objc2-core-foundation": "CoreFoundation",
    "objc2-io-kit": "IOKit",
    "security-framework-sys": "Security",
}

FORM = """--- !tapi-tbd
tbd-version: 4
targets: [ arm64-macos, x86_64-macos ]
install-name: '/System/Library/Frameworks/{name}.framework/Versions/A/{name}'
exports:
  - targets: [ arm64-macos, x86_64-macos ]
    symbols: [ {symbols} ]
...
"""

# An item of a block of foreign items, however it is indented.
DECLARED = re.compile(r"^\s*(?:pub(?:\([a-z]+\))?\s+)?(?:safe\s+|unsafe\s+)?(?:fn|static)\s+(?:mut\s+)?(\w+)\s*[(:<]", re.M)


def main():
    folder = pathlib.Path(sys.argv[1])
    metadata = subprocess.run(
        ["cargo", "metadata", "--format-version", "1", "--locked", "--filter-platform", "aarch64-apple-darwin"],
        check=True,
        capture_output=True,
    )
    symbols = {}
    for package in json.loads(metadata.stdout)["packages"]:
        framework = CRATES.get(package["name"])
        if framework is None:
            continue
        for source in pathlib.Path(package["manifest_path"]).parent.rglob("src/**/*.rs"):
            symbols.setdefault(framework, set()).update(DECLARED.findall(source.read_text()))
    for name, declared in symbols.items():
        place = folder / f"{name}.framework"
        place.mkdir(parents=True, exist_ok=True)
        listed = ", ".join(f"_{symbol}" for symbol in sorted(declared))
        (place / f"{name}.tbd").write_text(FORM.format(name=name, symbols=listed))


if __name__ == "__main__":
    main()
