#!/usr/bin/env python3
"""Links a static program twice, the second time with the functions that commands start with beside each other.

The system reads a program's file into memory where something of it is called, 64 KB at a time. What a command calls is
some 600 KB of code, strewn over nearly all of it; put together it is read in a tenth of the time, which is a tenth of
what starting takes.

Cargo calls this in place of the linker (whose kind it reads off the name of this file), with the words that a C
compiler takes. The first program, in which functions still have names, runs commands on a made-up shelf in an emulator
that writes down what is called. `scripts/static` says in LINK_COMPILER, LINK_LINKER and LINK_EMULATOR what to do it
with: the variable that names the compiler, the linker of the Rust toolchain (that of zig cannot be told an order), and
the emulator.
"""

import contextlib
import json
import os
import pathlib
import re
import shlex
import shutil
import subprocess
import sys
import tempfile

# What is started often, and so has to start fast; what comes first stands first.
COMMANDS = [
    "list", "status", "path", "switch 8", "run 8 -- true", "explain lts", "status --short", "connect --look bash",
    "suggest -- install 8", "tidy --dry-run", "catalog", "default 8",
]

DEFINITION = """
name = "bell"
title = "Bell"
program = "bell"
probe = {{ arguments = ["--version"], answer = "bell {{version}}" }}
[[sources]]
name = "bell"
kind = "catalog"
address = "{catalog}"
"""


def made_up_catalog():
    build = {"platform": "any", "file": "bell.tgz", "size": 1, "digest": "sha256:" + "0" * 64}
    release = {"publisher": "bell", "builds": [build]}
    return {
        "format": "vivid-shelf-catalog/1", "runtime": "bell",
        "publishers": [{"id": "bell", "name": "Bell", "main": True}],
        "lines": [{"line": str(line), "start": "2020-01-01", "lts": "2021-01-01", "end": "2030-01-01"}
                  for line in range(1, 20)],
        "releases": [{"version": f"{line}.{minor}.0", **release} for line in range(1, 20) for minor in range(9)],
    }


def made_up_shelf(folder):
    """A home folder for one runtime with one install, which is the default; as variables."""
    home, copy = folder / "home", folder / "copy/bin"
    settings = home / ".config/vivid-shelf"
    (settings / "runtimes").mkdir(parents=True)
    copy.mkdir(parents=True)
    (copy / "bell").write_text("#!/bin/sh\necho bell 8.3.1\n")
    (copy / "bell").chmod(0o755)
    (folder / "catalog.json").write_text(json.dumps(made_up_catalog()))
    (settings / "runtimes/bell.toml").write_text(DEFINITION.format(catalog=folder / "catalog.json"))
    (settings / "shelf.toml").write_text('main-runtime = "bell"\n')
    return {"HOME": str(home), "PATH": "/usr/bin:/bin", "VSHELF_TODAY": "2026-11-23", "VSHELF_SHELL": "bash",
            "VSHELF_EVALUATE": "1"}


def called_by(emulator, program, folder):
    """The names of the functions that the commands call: those of the first command, then what the second calls besides,
    and so on. Among them they are in the order of their names, which no chance changes."""
    variables = made_up_shelf(folder)

    def run(*words):
        ended = subprocess.run([emulator, *words], cwd=folder, env=variables, capture_output=True, text=True)
        if ended.returncode != 0:
            sys.exit(f"in_order: {shlex.join(map(str, words))} failed in {emulator}:\n{ended.stderr}")

    run(program, "catalog", "bell")
    run(program, "adopt", folder / "copy")
    names = []
    for command in COMMANDS:
        log = folder / "called"
        run("-d", "in_asm", "-D", log, program, *shlex.split(command))
        with open(log) as lines:
            found = {line[3:].strip() for line in lines if line.startswith("IN:")}
        names += sorted(found.difference(names, [""]))
    return names


@contextlib.contextmanager
def fresh_folder():
    """A folder whose name is the same every time, unless another link is under way: what is in a path is read and quoted
    in ways of its own, and the program is to be the same whenever it is linked."""
    folder = pathlib.Path(tempfile.gettempdir()) / "in-order"
    while True:
        try:
            folder.mkdir()
            break
        except FileExistsError:
            folder = folder.with_name(folder.name + "-again")
    try:
        yield folder
    finally:
        shutil.rmtree(folder)


def main():
    compiler = os.environ[os.environ["LINK_COMPILER"]]
    first = subprocess.run([compiler, *sys.argv[1:], "--verbose"], stderr=subprocess.PIPE, text=True)
    command = re.findall(r"^ld\.lld (.*)$", first.stderr, re.MULTILINE)
    if first.returncode != 0 or not command:
        sys.stderr.write(first.stderr)
        sys.exit(first.returncode or 1)
    linker = [os.environ["LINK_LINKER"], "-flavor", "gnu", *shlex.split(command[-1])]
    with fresh_folder() as folder:
        named = [word for word in linker if word not in ("-s", "--strip-all", "--strip-debug")]
        named[named.index("-o") + 1] = str(folder / "named")
        subprocess.run(named, check=True)
        order = folder / "order"
        order.write_text("\n".join(called_by(os.environ["LINK_EMULATOR"], folder / "named", folder)) + "\n")
        subprocess.run([*linker, "--no-warn-symbol-ordering", f"--symbol-ordering-file={order}"], check=True)


main()
