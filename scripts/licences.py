"""Prints the licences of everything that the program is made of, with the text of each, for scripts/package."""

import json
import pathlib
import re
import subprocess

NAMES = re.compile(r"(?i)^(licen[cs]e|copying|notice|copyright|unlicense)")


def reached(graph, start):
    """The packages that are in the program: not those that only build or test it."""
    nodes = {node["id"]: node for node in graph["nodes"]}
    found, left = set(), [start]
    while left:
        package = left.pop()
        if package not in found:
            found.add(package)
            left += [edge["pkg"] for edge in nodes[package]["deps"]
                     if any(kind["kind"] is None for kind in edge["dep_kinds"])]
    return found


def main():
    told = subprocess.run(
        ["cargo", "metadata", "--locked", "--format-version", "1", "--filter-platform", "x86_64-unknown-linux-gnu"],
        check=True, stdout=subprocess.PIPE)
    graph = json.loads(told.stdout)
    packages = {package["id"]: package for package in graph["packages"]}
    own = set(graph["workspace_members"])
    start = next(package for package in own if packages[package]["name"] == "vshelf")
    used = sorted((packages[package] for package in reached(graph["resolve"], start) - own),
                  key=lambda package: (package["name"], package["version"]))
    print(pathlib.Path("LICENSE").read_text().rstrip())
    print("\nThe program has parts of these packages, whose licences follow.\n")
    texts = {}
    for package in used:
        name = f"{package['name']} {package['version']}"
        print(f"{name}: {package['license'] or 'see its text'}")
        folder = pathlib.Path(package["manifest_path"]).parent
        for path in sorted(folder.iterdir()):
            if path.is_file() and NAMES.match(path.name):
                text = path.read_text(errors="replace").strip()
                texts.setdefault(text, []).append(name)
    for text, names in texts.items():
        print(f"\n{'-' * 78}\n{', '.join(dict.fromkeys(names))}:\n\n{text}")


main()
