//! Real runtimes, built from their publishers' own source archives as Debian's pool has them. A stand-in in each
//! publisher's layout says what there is. Left out of the usual run: `scripts/live` runs the short ones,
//! `scripts/builds` the long ones.

use std::fmt::Write;
use std::fs;
use std::path::{Path, PathBuf};
use std::thread;
use std::time::Duration;

use tempfile::TempDir;

use crate::live::connected;
use crate::process::{self, Started};
use crate::scene::{PROGRAM, Scene, names_in, say, skipped};

/// How long a download or a build of a real runtime may take.
const LONG: Duration = Duration::from_secs(45 * 60);

/// The digest of a file, by one of the programs of every system: `sha256sum`, `sha512sum`.
fn digest(program: &str, file: &Path) -> String {
    let output = process::output(process::command(program).arg(file));
    let text = String::from_utf8(output.stdout).unwrap();
    text.split_whitespace().next().unwrap().to_owned()
}

/// A folder with these archives under the publisher's names; nothing where no pool of Debian answers here.
///
/// Each is the name of Debian's source package, its file there, and the publisher's name for it.
fn archives(wanted: &[(&str, &str, &str)]) -> Option<TempDir> {
    let folder = tempfile::tempdir().unwrap();
    let mut fetch = process::command(
        Path::new(env!("CARGO_MANIFEST_DIR")).join("../../scripts/source-archives"),
    );
    fetch
        .arg(folder.path())
        .args(wanted.iter().map(|(package, ..)| package));
    let output = process::output_within(LONG, &mut fetch);
    if !output.status.success() {
        let names: Vec<&str> = wanted.iter().map(|(_, _, name)| *name).collect();
        skipped(&format!(
            "no pool of Debian has {} here",
            names.join(" and ")
        ));
        return None;
    }
    for (_, file, name) in wanted {
        fs::rename(folder.path().join(file), folder.path().join(name)).unwrap();
    }
    Some(folder)
}

/// Has a source of a built-in definition come from this document instead.
fn move_source(scene: &Scene, source: &str, document: &Path) {
    let settings = format!("[addresses]\n{source:?} = {document:?}\n");
    scene.write(".config/vivid-shelf/shelf.toml", &settings);
}

/// Ruby's index of these archives: a line each with its name, address and digests.
fn index_of_ruby(folder: &Path, names: &[&str]) -> PathBuf {
    let mut index = "name\turl\tsha1\tsha256\tsha512\n".to_owned();
    for name in names {
        let file = folder.join(name);
        let digests = ["sha1sum", "sha256sum", "sha512sum"].map(|program| digest(program, &file));
        let release = name.trim_end_matches(".tar.xz");
        writeln!(index, "{release}\t{name}\t{}", digests.join("\t")).unwrap();
    }
    let file = folder.join("index.txt");
    fs::write(&file, index).unwrap();
    file
}

/// Runs a script in a connected bash of the scene.
fn in_bash(scene: &Scene, script: &str) -> String {
    let script = format!("set -eu\nsource ~/.bashrc\n{script}");
    let ran = scene.run(connected(scene, "/bin/bash").args(["--norc", "-c", &script]));
    assert_eq!(ran.code, 0, "{script}: {ran}");
    ran.stdout
}

/// How often it is looked how much memory a build has.
const LOOK: Duration = Duration::from_millis(250);

/// Installs, which takes from a moment to a quarter of an hour; gives the most memory that all its processes had
/// together, in bytes.
fn install(scene: &Scene, selectors: &[&str]) -> u64 {
    let mut installing = connected(scene, PROGRAM);
    installing.arg("install").args(selectors);
    let mut installing = Started::start(&mut installing);
    let mut most = 0;
    let status = loop {
        most = most.max(memory_below(installing.id()));
        match installing.try_wait().unwrap() {
            Some(status) => break status,
            None => thread::sleep(LOOK),
        }
    };
    assert!(status.success(), "{status}");
    assert!(names_in(&scene.data("builds")).is_empty());
    most
}

/// The resident memory of a process and all that it started, in bytes.
fn memory_below(process: u32) -> u64 {
    let output = process::output(process::command("ps").args(["-e", "-o", "pid=,ppid=,rss="]));
    let text = String::from_utf8_lossy(&output.stdout).into_owned();
    let all: Vec<[u64; 3]> = text
        .lines()
        .filter_map(|line| {
            let numbers: Vec<u64> = line.split_whitespace().flat_map(str::parse).collect();
            numbers.try_into().ok()
        })
        .collect();
    let mut family = vec![u64::from(process)];
    let mut at = 0;
    while at < family.len() {
        let parent = family[at];
        family.extend(all.iter().filter(|one| one[1] == parent).map(|one| one[0]));
        at += 1;
    }
    let members = all.iter().filter(|one| family.contains(&one[0]));
    1024 * members.map(|one| one[2]).sum::<u64>()
}

/// Says the figures of an install that was built, for whoever runs this; checks that its log is kept.
fn tell_figures(scene: &Scene, runtime: &str, key: &str, memory: u64) {
    let log = scene.data(&format!("shelf/{runtime}/{key}/build.log"));
    assert!(fs::read_to_string(log).unwrap().contains("make"));
    let record = scene.data(&format!("shelf/{runtime}/{key}/record.json"));
    let record: serde_json::Value =
        serde_json::from_str(&fs::read_to_string(record).unwrap()).unwrap();
    let number = |value: &serde_json::Value| value.as_f64().unwrap();
    let built = &record["built"];
    say(&format!(
        "{runtime} {key}: {:.1} s in its steps, {:.1} MB on disk meanwhile, {:.1} MB installed; {:.0} MB of memory\n",
        number(&built["took_ms"]) / 1e3,
        number(&built["space"]) / 1e6,
        number(&record["unpacked_size"]) / 1e6,
        memory as f64 / 1e6,
    ));
}

mod live {
    use super::*;

    #[test]
    #[ignore = "asks Debian's pool; scripts/live runs it"]
    fn lines_of_lua_are_built() {
        let wanted = [
            ("lua5.1", "lua5.1_5.1.5.orig.tar.gz", "lua-5.1.5.tar.gz"),
            ("lua5.2", "lua5.2_5.2.4.orig.tar.gz", "lua-5.2.4.tar.gz"),
            ("lua5.3", "lua5.3_5.3.6.orig.tar.gz", "lua-5.3.6.tar.gz"),
            ("lua5.4", "lua5.4_5.4.7.orig.tar.gz", "lua-5.4.7.tar.gz"),
        ];
        let Some(folder) = archives(&wanted) else {
            return;
        };
        // As its publisher's page lists them.
        let rows = wanted.iter().map(|(_, _, name)| {
            let sum = digest("sha256sum", &folder.path().join(name));
            format!(
                "<TR CLASS=\"lua\">\n<TD CLASS=\"name\"><A HREF=\"{name}\">{name}</A></TD>\n\
                 <TD CLASS=\"date\">2020-06-29</TD>\n<TD CLASS=\"sum\">{sum}</TD>\n</TR>\n"
            )
        });
        let page = folder.path().join("index.html");
        let rows: String = rows.collect();
        fs::write(&page, format!("<!DOCTYPE HTML>\n<TABLE>\n{rows}</TABLE>\n")).unwrap();
        let scene = Scene::new();
        move_source(&scene, "lua.lua-org", &page);
        let versions = ["5.1.5", "5.2.4", "5.3.6", "5.4.7"];
        let selectors = versions.map(|version| format!("lua@{version}"));
        let selectors: Vec<&str> = selectors.iter().map(String::as_str).collect();
        let memory = install(&scene, &selectors);
        scene.does(&["connect"]);
        for version in versions {
            tell_figures(&scene, "lua", &format!("puc-rio-{version}"), memory);
            let script = format!(
                "vshelf switch lua@{version} >/dev/null
                lua -e 'print(_VERSION, package.path)'"
            );
            let said = in_bash(&scene, &script);
            let place = format!(
                "[HOME]/.local/share/vivid-shelf/shelf/lua/puc-rio-{version}/build/share/lua/"
            );
            assert!(
                said.starts_with(&format!("Lua {}\t", &version[..3])),
                "{said}"
            );
            assert!(said.contains(&place), "{said}");
            assert_eq!(
                scene.vshelf(&["checkup", &format!("lua@{version}")]).code,
                0
            );
        }
        let removed = scene.vshelf(&["remove", "--even-if-used", selectors[0], selectors[1]]);
        assert_eq!(removed.code, 0, "{removed}");
        // What has ended goes, what has not stays.
        let ran = scene.vshelf(&["tidy", "lua", "--yes"]);
        assert!(ran.stdout.contains("5.3.6"), "{ran}");
        let left = scene.vshelf(&["list", "lua"]);
        assert!(left.stdout.contains("5.4.7"), "{left}");
    }
}

mod long {
    use super::*;

    const RUBY_31: (&str, &str, &str) =
        ("ruby3.1", "ruby3.1_3.1.2.orig.tar.xz", "ruby-3.1.2.tar.xz");
    const RUBY_33: (&str, &str, &str) =
        ("ruby3.3", "ruby3.3_3.3.8.orig.tar.xz", "ruby-3.3.8.tar.xz");

    #[test]
    #[ignore = "takes a quarter of an hour; scripts/builds runs it"]
    fn lines_of_ruby_are_built() {
        let Some(folder) = archives(&[RUBY_31, RUBY_33]) else {
            return;
        };
        let scene = Scene::new();
        let index = index_of_ruby(folder.path(), &[RUBY_31.2, RUBY_33.2]);
        move_source(&scene, "ruby.ruby-lang", &index);
        let memory = [
            install(&scene, &["ruby@3.1"]),
            install(&scene, &["ruby@3.3"]),
        ];
        scene.does(&["connect"]);
        // A real package with an extension in C, of those that come with Ruby 3.3.
        let mut unpack = process::command("tar");
        let package = "ruby-3.3.8/.bundle/gems/racc-1.7.3";
        unpack.args(["-xf", RUBY_33.2, package]);
        let unpacked = process::status(unpack.current_dir(folder.path()));
        assert!(unpacked.success());
        let package = folder.path().join(package);
        for (version, memory) in ["3.1.2", "3.3.8"].into_iter().zip(memory) {
            tell_figures(&scene, "ruby", &format!("ruby-lang-{version}"), memory);
            let selector = format!("ruby@{version}");
            let checked = scene.vshelf(&["checkup", &selector]);
            assert_eq!(checked.code, 0, "{checked}");
            let script = format!(
                "vshelf switch ruby@{version} >/dev/null
                ruby -ropenssl -rzlib -rpsych -rfiddle -e 'puts RUBY_VERSION'
                cd {}
                gem build racc-1.7.3.gemspec >/dev/null 2>&1
                gem install --local --force --no-document racc-1.7.3.gem >/dev/null
                cd
                ruby -rracc -rracc/cparse -e 'puts Racc::VERSION'
                mkdir -p kelp/lib && cd kelp && echo 'KELP = 7' >lib/kelp.rb
                echo 'Gem::Specification.new {{ |s| s.name = \"kelp\"; s.version = \"1.0.0\"; s.summary = \"kelp\"; s.authors = [\"Gull Point\"]; s.files = [\"lib/kelp.rb\"] }}' >kelp.gemspec
                gem build kelp.gemspec >/dev/null 2>&1
                gem install --local --no-document kelp-1.0.0.gem >/dev/null
                ruby -rkelp -e 'puts KELP'",
                package.display()
            );
            assert_eq!(in_bash(&scene, &script), format!("{version}\n1.7.3\n7\n"));
            let ran = scene.vshelf(&["remove", "--even-if-used", &selector]);
            assert_eq!(ran.code, 0, "{ran}");
            let said = ran.stdout + &ran.stderr;
            assert!(said.contains("kelp@1.0.0"), "{said}");
            assert!(
                !scene
                    .data(&format!("shelf/ruby/ruby-lang-{version}"))
                    .exists()
            );
        }
    }

    #[test]
    #[ignore = "takes some minutes; scripts/builds runs it"]
    fn python_is_built() {
        let wanted = [(
            "python3.13",
            "python3.13_3.13.5.orig.tar.xz",
            "Python-3.13.5.tar.xz",
        )];
        let Some(folder) = archives(&wanted) else {
            return;
        };
        let sum = digest("sha256sum", &folder.path().join(wanted[0].2));
        let files = folder.path().join("files.json");
        let text = format!(
            r#"[{{"name": "XZ compressed source tarball", "is_source": true, "url": "{}", "sha256_sum": "{sum}"}}]"#,
            wanted[0].2
        );
        fs::write(&files, text).unwrap();
        let scene = Scene::new();
        move_source(&scene, "python.python-org", &files);
        let memory = install(&scene, &["python@psf/3.13"]);
        scene.does(&["connect"]);
        tell_figures(&scene, "python", "psf-3.13.5", memory);
        let said = in_bash(
            &scene,
            "vshelf switch python@3.13 >/dev/null
            python -c 'import ssl, sqlite3, zlib, ctypes, platform; print(platform.python_version())'
            pip3 install --quiet six==1.16.0 && python3 -c 'import six; print(six.__version__)'",
        );
        assert_eq!(said, "3.13.5\n1.16.0\n");
        assert_eq!(scene.vshelf(&["checkup", "python@3.13"]).code, 0);
        let ran = scene.vshelf(&["remove", "--even-if-used", "python@3.13"]);
        assert_eq!(ran.code, 0, "{ran}");
        assert!((ran.stdout + &ran.stderr).contains("six@1.16.0"));
    }

    /// What installs a bare Debian into a folder, and what runs a shell line in it.
    struct Bare {
        folder: TempDir,
    }

    impl Bare {
        fn new() -> Option<Bare> {
            let folder = tempfile::tempdir().unwrap();
            let script = "mirror=$(apt-get indextargets --format '$(SITE)' 'Identifier: Packages' 'Origin: Debian' | head -n 1)
                debootstrap --variant=minbase stable \"$1\" \"$mirror\"";
            let mut make = process::command("sh");
            make.args(["-c", script, "sh"]).arg(folder.path());
            let made = process::output_within(LONG, &mut make);
            if !made.status.success() {
                skipped("a bare Debian cannot be made here: debootstrap needs root");
                return None;
            }
            Some(Bare { folder })
        }

        /// Where a path of it is seen from here.
        fn path(&self, inside: &str) -> PathBuf {
            self.folder.path().join(inside)
        }

        /// Runs a line in it, which sees processes of its own alone; gives its exit code and all that it said.
        fn run(&self, line: &str) -> (i32, String) {
            let mount = format!("--mount-proc={}", self.path("proc").display());
            let mut run = process::command("unshare");
            run.args(["--mount", "--pid", "--fork", &mount, "chroot"])
                .arg(self.folder.path())
                .args(["/bin/sh", "-c", line])
                .env_clear()
                .env("PATH", "/usr/sbin:/usr/bin:/sbin:/bin")
                .env("HOME", "/root")
                .env("DEBIAN_FRONTEND", "noninteractive");
            let output = process::output_within(LONG, &mut run);
            let said = [output.stdout, output.stderr].concat();
            let said = String::from_utf8_lossy(&said).into_owned();
            (output.status.code().unwrap_or(-1), said)
        }
    }

    #[test]
    #[ignore = "takes a quarter of an hour; scripts/builds runs it"]
    fn ruby_in_a_bare_debian_is_refused_with_the_line_that_helps() {
        let Some(folder) = archives(&[RUBY_33]) else {
            return;
        };
        let Some(bare) = Bare::new() else {
            return;
        };
        let place = bare.path("srv/ruby");
        fs::create_dir_all(&place).unwrap();
        fs::copy(folder.path().join(RUBY_33.2), place.join(RUBY_33.2)).unwrap();
        index_of_ruby(&place, &[RUBY_33.2]);
        fs::copy(PROGRAM, bare.path("usr/local/bin/vshelf")).unwrap();
        let config = bare.path("root/.config/vivid-shelf");
        fs::create_dir_all(&config).unwrap();
        let settings = "[addresses]\n\"ruby.ruby-lang\" = \"/srv/ruby/index.txt\"\n";
        fs::write(config.join("shelf.toml"), settings).unwrap();

        let (code, said) = bare.run("/usr/local/bin/vshelf install ruby@3.3");
        assert_eq!(code, 7, "{said}");
        say(&said);
        let line =
            "apt-get install gcc make libssl-dev zlib1g-dev libyaml-dev libffi-dev libgmp-dev";
        assert!(
            said.ends_with(&format!("  To install what is missing: {line}\n")),
            "{said}"
        );
        assert!(!said.contains("Fetching"), "{said}");
        let (code, said) = bare.run(&format!(
            "apt-get update && {line} --yes --no-install-recommends"
        ));
        assert_eq!(code, 0, "{said}");
        let (code, said) = bare.run("/usr/local/bin/vshelf install ruby@3.3");
        assert_eq!(code, 0, "{said}");
        let (code, said) = bare.run(
            "/usr/local/bin/vshelf run ruby@3.3 -- ruby -ropenssl -rzlib -rpsych -rfiddle -e 'puts RUBY_VERSION'",
        );
        assert_eq!((code, said.as_str()), (0, "3.3.8\n"));
    }
}
