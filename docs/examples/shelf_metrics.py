#!/usr/bin/env python3
"""Writes what is on the shelf as metrics, in the text format of Prometheus, such as for a node exporter that collects
text files:

    shelf_metrics.py /var/lib/node_exporter/vshelf.prom

It asks `vshelf list --json`, `vshelf tidy --dry-run --json` and `vshelf status --json`, whose forms stand in
docs/schemas. Without a file it writes to its output.
"""

import datetime
import json
import os
import subprocess
import sys
import tempfile

METRICS = {
    "vshelf_install_bytes": "The bytes of an install's files.",
    "vshelf_install_outdated": "An install that a clean-up would count as outdated, by reason.",
    "vshelf_security_release_missing": "An install whose line has a release that fixes a security problem.",
    "vshelf_support_end_timestamp_seconds": "When the support of an install's line ends.",
    "vshelf_active": "What is active here, by the rule that says so.",
}


def ask(*words):
    asked = subprocess.run(["vshelf", "--offline", "--quiet", *words, "--json"], check=True, stdout=subprocess.PIPE)
    return json.loads(asked.stdout)


def sample(name, value, **labels):
    def escaped(text):
        return str(text).replace("\\", "\\\\").replace('"', '\\"').replace("\n", "\\n")

    labels = ",".join(f'{label}="{escaped(text)}"' for label, text in labels.items())
    return name, f"{name}{{{labels}}} {value}"


def samples():
    for runtime in ask("list")["runtimes"]:
        for install in runtime["installs"]:
            of = {"runtime": runtime["runtime"], "install": install["key"]}
            yield sample("vshelf_install_bytes", install["size"], **of)
            if install["end"]:
                # The last day belongs to it.
                last = datetime.datetime.fromisoformat(install["end"] + "T00:00:00+00:00")
                end = last + datetime.timedelta(days=1)
                yield sample("vshelf_support_end_timestamp_seconds", int(end.timestamp()), **of, line=install["line"])
    for install in ask("tidy", "--dry-run")["installs"]:
        of = {"runtime": install["runtime"], "install": install["key"]}
        for reason in install["reasons"]:
            yield sample("vshelf_install_outdated", 1, **of, reason=reason["reason"])
        if install["newer"] and install["newer"]["security"]:
            yield sample("vshelf_security_release_missing", 1, **of, newer=install["newer"]["version"])
    for runtime in ask("status")["runtimes"]:
        if runtime["active"]:
            yield sample("vshelf_active", 1, runtime=runtime["runtime"], install=runtime["active"], rule=runtime["rule"])


def main():
    found = list(samples())
    lines = []
    for name, meaning in METRICS.items():
        lines += [f"# HELP {name} {meaning}", f"# TYPE {name} gauge"]
        lines += [line for metric, line in found if metric == name]
    text = "\n".join(lines) + "\n"
    if len(sys.argv) < 2:
        sys.stdout.write(text)
        return
    # Whoever collects it never sees half of it.
    place = os.path.abspath(sys.argv[1])
    with tempfile.NamedTemporaryFile("w", dir=os.path.dirname(place), delete=False) as file:
        file.write(text)
    os.chmod(file.name, 0o644)
    os.replace(file.name, place)


main()
