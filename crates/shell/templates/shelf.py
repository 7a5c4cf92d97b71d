# Vivid Shelf for xonsh, in plain Python, which is read faster. `vshelf connect` writes this file; what is changed here is lost.
def __vshelf_connect():
    import json
    import os
    import re
    import shutil
    import subprocess
    import sys
    import tempfile

    from xonsh.built_ins import XSH

    data = @DATA@
    program = @PROGRAM@
    stamps = @STAMPS@
    # What was looked at last, and what it resulted in.
    state = {"signature": None, "followed": {}, "told": [], "known": {}}

    def read_words(*texts):
        """What texts such as marram=8.3.1 node=20.1.0 say; the first word of a runtime decides."""
        words = {}
        for text in texts:
            for word in text.split():
                runtime, equals, key = word.partition("=")
                if equals:
                    words.setdefault(runtime, key)
        return words

    def switched():
        return read_words(str(XSH.env.get("VSHELF_SWITCHED", "")))

    def chosen():
        """What this shell was switched to, or else what it follows. A switch to an install that is gone does not count."""

        def is_there(name, key):
            return key == "system" or os.path.isdir(f"{data}/shelf/{name}/{key}")

        there = {name: key for name, key in switched().items() if is_there(name, key)}
        return {**state["followed"], **there}

    def enter(runtime):
        """Puts the folders of what is active in front of PATH: the version this shell (or the one
        that started it) was switched to, or else what the project here requires, or else the default."""
        name = runtime["name"]
        default, installs = f"{data}/default/{name}", f"{data}/shelf/{name}"
        ours = (f"{default}/", f"{installs}/")
        key = chosen().get(name, "?")
        base = {"?": default, "system": None}.get(key, f"{installs}/{key}/build")
        folders = [] if base is None else [f"{base}/{folder}" for folder in runtime["folders"]]
        others = [entry for entry in XSH.env["PATH"] if not f"{entry}/".startswith(ours)]
        XSH.env["PATH"] = folders + others
        variable = runtime["variable"]
        if not variable:
            return
        if base is not None and os.path.isdir(base):
            XSH.env[variable] = base
        elif f"{XSH.env.get(variable, '')}/".startswith(ours):
            del XSH.env[variable]

    def shown(name, key):
        """The selector of a key, which names the publisher unless it is the main one: 8.3.1 for
        saltmarsh-8.3.1, dunefield/8.3.1 for dunefield-8.3.1."""
        selector = re.sub(r"^(.*?)-(?=[0-9])", r"\1/", key)
        mains = {runtime["name"]: runtime["publisher"] for runtime in state["known"]["enter"]}
        return selector.removeprefix(f"{mains.get(name, '')}/")

    def name_all():
        """Says in VSHELF_ACTIVE what is active, for prompts to show."""
        keys = chosen()
        active = []
        for runtime in state["known"]["enter"]:
            key = keys.get(runtime["name"], "?")
            named = runtime["default"] if key == "?" else shown(runtime["name"], key)
            if named:
                active.append(f"{runtime['name']} {named}")
        XSH.env["VSHELF_ACTIVE"] = ", ".join(active)

    def enter_all():
        for runtime in state["known"]["enter"]:
            enter(runtime)
        name_all()

    def time_of(file):
        try:
            return os.stat(file).st_mtime_ns
        except OSError:
            return None

    def requirement_files():
        """The requirement files from this folder upward, nearest first: each with its stamp and their times."""
        at = str(XSH.env["PWD"])
        found = []
        folders = 0
        while True:
            before = len(found)
            for name in state["known"]["requirements"]:
                file = os.path.join(at, name)
                if os.path.isfile(file):
                    stamp = stamps + file
                    found.append((file, stamp, time_of(file), time_of(stamp)))
            folders += len(found) > before
            above = os.path.dirname(at)
            # Of the folders that have such files the nearest ten count.
            if above == at or folders == 10:
                return found
            at = above

    def read_line(file):
        try:
            with open(file, encoding="utf-8") as opened:
                return opened.readline()
        except OSError:
            return ""

    def environment(**more):
        return {**XSH.env.detype(), **more}

    def tell(line):
        print(line, file=sys.stderr, flush=True)

    def look():
        """Follows what the project here requires. The program runs only where that is not known."""
        if not state["known"]["requirements"]:
            return
        here = str(XSH.env["PWD"])
        files = requirement_files()
        if (here, files) == state["signature"]:
            return
        lines = [read_line(stamp) for _, stamp, time, made in files if time == made]
        words = read_words(*lines)
        notices = []
        asks = len(lines) < len(files) or any(line.split()[:1] == ["again"] for line in lines)
        if asks and os.access(program, os.X_OK):
            asked = [program, "connect", "--look", "xonsh"]
            answer = subprocess.run(asked, stdout=subprocess.PIPE, env=environment(), cwd=here)
            first, *notices = answer.stdout.decode("utf-8", "replace").splitlines() or [""]
            words = read_words(first)
        # Told when the project is entered, and not in each of its folders.
        if notices != state["told"]:
            for notice in notices:
                tell(notice)
        state["told"] = notices
        state["signature"] = (here, requirement_files())
        before = state["followed"]
        if words != before:
            state["followed"] = words
            enter_all()
            if XSH.env.get("XONSH_INTERACTIVE") and state["known"]["says"] == "announce":
                for name, key in words.items():
                    if key in ("?", before.get(name)):
                        continue
                    # A switch takes precedence over what the project requires.
                    if switched().get(name) == key:
                        continue
                    if name in switched():
                        stays = shown(name, switched()[name])
                        tell(f"vshelf: {name} {shown(name, key)} is required here; this shell stays switched to {stays}")
                    else:
                        tell(f"vshelf: {name} {shown(name, key)} here, as the project requires")
                for name, key in before.items():
                    if key != "?" and name not in words and name not in switched():
                        tell(f"vshelf: {name} follows the default again")

    def load():
        try:
            with open(f"{data}/connect/runtimes.json", encoding="utf-8") as opened:
                state["known"] = json.load(opened)
        except (OSError, ValueError):
            state["known"] = {"requirements": [], "says": "", "enter": []}

    def vshelf(arguments, stdin=None, stdout=None, stderr=None):
        """Runs the program, and lets it change this shell: it writes the changes to a file, as data."""
        run = program
        if not os.access(run, os.X_OK):
            run = shutil.which("vshelf", path=os.pathsep.join(XSH.env["PATH"]))
        if run is None:
            tell(f"vshelf: the program is gone from {program}; install it again and run: vshelf connect")
            return 127
        handle, changes = tempfile.mkstemp()
        os.close(handle)
        try:
            given = environment(VSHELF_SHELL="xonsh", VSHELF_SHELL_ID=str(os.getpid()), VSHELF_EVALUATE=changes)
            streams = {"stdin": stdin, "stdout": stdout, "stderr": stderr}
            result = subprocess.run([run, *arguments], env=given, **streams).returncode
            with open(changes, encoding="utf-8") as opened:
                wanted = json.loads(opened.read() or "{}")
        finally:
            os.remove(changes)
        for name, value in wanted.items():
            if value is None:
                XSH.env.pop(name, None)
            else:
                XSH.env[name] = value.split(":") if name == "PATH" else value
        # What is known of runtimes, and what the project requires, may be other than before.
        load()
        name_all()
        state["signature"] = None
        look()
        return result

    vshelf.__xonsh_threadable__ = False

    # Of an earlier reading of this file, the functions that were called then are replaced.
    first = "vshelf" not in XSH.aliases
    XSH.aliases["vshelf"] = vshelf
    XSH.ctx["__vshelf_look"] = look
    if first:
        XSH.builtins.events.on_chdir(lambda olddir, newdir, **_: XSH.ctx["__vshelf_look"]())
        XSH.builtins.events.on_pre_prompt(lambda **_: XSH.ctx["__vshelf_look"]())
    # What follows a change of folder runs programs and changes the environment. xonsh would do so in a thread
    # beside the one that reads lines, and can lose its own output and end when the two meet.
    for name in ("cd", "pushd", "popd"):
        mover = XSH.aliases.get(name)
        if callable(mover):
            mover.__xonsh_threadable__ = False
    load()
    enter_all()
    look()


__vshelf_connect()
