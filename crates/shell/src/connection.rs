//! The static files that a shell's start-up file sources.
//!
//! The integration, and for most shells the functions that it reads when one is needed, change with
//! the program; the list of runtimes to enter changes with the shelf. Sourcing them starts no
//! process.

use std::path::Path;
use std::sync::Arc;

use vshelf_core::{Definition, Pick};

use crate::{Dialect, quote};

/// The function of every POSIX integration that a connected shell has.
pub const FUNCTION: &str = "__vshelf_look";

/// The name of the file that a start-up file sources, below the `connect` folder.
pub fn integration_file(dialect: Dialect) -> String {
    format!("shelf.{}", dialect.extension())
}

/// The name of the file of functions below the `connect` folder, where the integration has one.
pub fn functions_file(dialect: Dialect) -> Option<String> {
    let functions = dialect == Dialect::Elvish || !dialect.reads_json();
    functions.then(|| format!("functions.{}", dialect.extension()))
}

/// The name of the list of runtimes below the `connect` folder.
pub fn runtimes_file(dialect: Dialect) -> String {
    match dialect.reads_json() {
        true => "runtimes.json".to_owned(),
        false => format!("runtimes.{}", dialect.name()),
    }
}

/// The places that an integration knows.
#[derive(Clone, Copy, Debug)]
pub struct Places<'p> {
    /// The data folder.
    pub data: &'p Path,
    /// The program.
    pub program: &'p Path,
    /// The folder of stamps: what requirement files resulted in when they were read last.
    pub stamps: &'p Path,
}

/// How a shell tells that it follows a project.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, serde::Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Following {
    /// It says which version it took.
    #[default]
    Announce,
    /// It asks before it follows.
    Ask,
    /// It says which version it took, and has what is missing installed where a person agreed to it.
    Install,
    /// It says nothing.
    Quiet,
    /// It does not follow.
    Off,
}

/// Code of a shell with nothing of this machine in it.
fn template(dialect: Dialect, parts: &[&str]) -> String {
    let checked_as = match dialect {
        Dialect::Bash => "bash",
        Dialect::Ksh => "ksh",
        _ => "sh",
    };
    let text = parts.concat();
    let lines = text.lines().filter_map(|line| match line.trim() {
        // zsh reads POSIX code as such where it is told to.
        "@EMULATE@" if dialect == Dialect::Zsh => Some("  builtin emulate -L sh\n".to_owned()),
        "@EMULATE@" => None,
        _ => Some(format!("{line}\n")),
    });
    let text: String = lines.collect();
    text.replace("@SHELL@", dialect.name())
        .replace("@CHECKED_AS@", checked_as)
}

/// The completion that a package installs for all who have it, connected or not; nothing for shells without one.
pub fn package_completion(dialect: Dialect) -> Option<String> {
    let bash = include_str!("../templates/package.bash");
    let zsh = include_str!("../templates/package.zsh");
    let parts: &[&str] = match dialect {
        Dialect::Bash => &[bash, include_str!("../templates/complete.bash")],
        Dialect::Zsh => &[
            zsh,
            include_str!("../templates/complete.zsh"),
            "\n__vshelf_suggest\n",
        ],
        Dialect::Fish => &[include_str!("../templates/package.fish")],
        Dialect::Elvish => &[include_str!("../templates/package.elv")],
        _ => return None,
    };
    Some(template(dialect, parts))
}

/// The functions that the integration reads when one is needed: a new shell parses what it uses at once.
pub fn render_functions(dialect: Dialect) -> String {
    const FUNCTIONS: &str = include_str!("../templates/functions.sh");
    let parts: &[&str] = match dialect {
        Dialect::Fish => &[include_str!("../templates/functions.fish")],
        Dialect::Tcsh => &[include_str!("../templates/functions.tcsh")],
        Dialect::Bash => &[FUNCTIONS, include_str!("../templates/complete.bash")],
        Dialect::Zsh => &[FUNCTIONS, include_str!("../templates/complete.zsh")],
        Dialect::Sh | Dialect::Ksh | Dialect::Mksh => &[FUNCTIONS],
        Dialect::Elvish => &[include_str!("../templates/functions.elv")],
        Dialect::Xonsh | Dialect::Nu | Dialect::PowerShell => &[],
    };
    template(dialect, parts)
}

/// The integration for a shell whose places are these.
pub fn render_integration(dialect: Dialect, places: Places<'_>) -> String {
    const INTEGRATION: &str = include_str!("../templates/shelf.sh");
    let parts: &[&str] = match dialect {
        Dialect::Fish => &[include_str!("../templates/shelf.fish")],
        Dialect::Bash => &[INTEGRATION, include_str!("../templates/prompt.bash")],
        Dialect::Zsh => &[INTEGRATION, include_str!("../templates/prompt.zsh")],
        Dialect::Sh | Dialect::Ksh | Dialect::Mksh => {
            &[INTEGRATION, include_str!("../templates/prompt.sh")]
        }
        Dialect::Elvish => &[include_str!("../templates/shelf.elv")],
        Dialect::Tcsh => &[include_str!("../templates/shelf.tcsh")],
        Dialect::Xonsh => &[include_str!("../templates/shelf.py")],
        Dialect::Nu => &[include_str!("../templates/shelf.nu")],
        Dialect::PowerShell => &[include_str!("../templates/shelf.ps1")],
    };
    // Filled in at once: text that one value brings is not searched for the next.
    let mut text = String::new();
    for line in template(dialect, parts).lines() {
        let value = match line
            .rsplit_once('@')
            .and_then(|(line, _)| line.rsplit_once('@'))
        {
            Some((before, "DATA")) => Some((before, places.data)),
            Some((before, "PROGRAM")) => Some((before, places.program)),
            Some((before, "STAMPS")) => Some((before, places.stamps)),
            _ => None,
        };
        match value {
            Some((before, value)) => {
                text.push_str(before);
                text.push_str(&dialect.quote(&value.to_string_lossy()));
            }
            None => text.push_str(line),
        }
        text.push('\n');
    }
    text
}

/// A runtime that shells enter.
#[derive(Clone, Debug)]
pub struct Entered {
    /// What it is.
    pub definition: Arc<Definition>,
    /// Its default, if it has one.
    pub default: Option<Pick>,
    /// The selector of its default, or an empty text.
    pub shown: String,
    /// The publisher that its selectors mean if they name none, or an empty text if that is not known.
    pub publisher: String,
}

/// What the list that shells read has of a runtime.
#[derive(serde::Serialize)]
struct EnteredRuntime<'d> {
    name: &'d str,
    /// What its default is called, empty where it has none.
    default: &'d str,
    /// Its main publisher, empty if that is not known.
    publisher: &'d str,
    /// Where its default is below the folder of its installs, where that is there.
    #[serde(skip)]
    default_build: Option<String>,
    /// Its home variable, empty where it has none.
    variable: &'d str,
    folders: &'d [String],
}

/// What changes with the shelf and the settings, for every shell.
#[derive(serde::Serialize)]
struct EnteredRuntimes<'d> {
    /// Files in which projects say what they require.
    requirements: &'d [String],
    /// What following a project is told with.
    says: &'static str,
    enter: Vec<EnteredRuntime<'d>>,
}

/// The list of runtimes that a new shell enters, and the names of the requirement files that it watches. `data` is the
/// data folder.
pub fn render_runtimes(
    dialect: Dialect,
    runtimes: &[Entered],
    requirements: &[String],
    following: Following,
    data: &Path,
) -> String {
    let enter = runtimes.iter().map(|runtime| {
        let definition = &runtime.definition;
        EnteredRuntime {
            name: &definition.name,
            default: &runtime.shown,
            publisher: &runtime.publisher,
            default_build: (runtime.default.as_ref())
                .and_then(|pick| Some(format!("{}/build", pick.key()?.as_str()))),
            variable: definition.home_variable.as_deref().unwrap_or_default(),
            folders: &definition.folders,
        }
    });
    let entries = EnteredRuntimes {
        requirements,
        says: match following {
            Following::Announce | Following::Install => "announce",
            Following::Ask | Following::Quiet | Following::Off => "",
        },
        enter: enter.collect(),
    };
    match dialect {
        Dialect::Bash | Dialect::Zsh | Dialect::Sh | Dialect::Ksh | Dialect::Mksh => {
            entries.render_posix(dialect)
        }
        Dialect::Fish => entries.render_fish(data),
        Dialect::Tcsh => entries.render_tcsh(data),
        Dialect::Elvish | Dialect::Xonsh | Dialect::Nu | Dialect::PowerShell => {
            serde_json::json!(entries).to_string() + "\n"
        }
    }
}

impl EnteredRuntime<'_> {
    /// Where its default is.
    fn base(&self, data: &str) -> String {
        format!("{data}/default/{}", self.name)
    }
}

impl EnteredRuntimes<'_> {
    /// What the defaults have on PATH, in order: the one that is entered last comes first.
    fn defaults(&self, dialect: Dialect, data: &str) -> String {
        let entries = self.enter.iter().rev().flat_map(|runtime| {
            let base = runtime.base(data);
            let folders = runtime.folders.iter();
            folders.map(move |folder| dialect.quote(&format!("{base}/{folder}")))
        });
        entries.collect::<Vec<_>>().join(" ")
    }

    /// The runtimes that have a home variable.
    fn with_variable(&self) -> impl Iterator<Item = &EnteredRuntime<'_>> {
        let entered = self.enter.iter();
        entered.filter(|runtime| !runtime.variable.is_empty())
    }

    /// The main publishers, as `marram=saltmarsh`.
    fn mains(&self) -> Vec<String> {
        let known = self
            .enter
            .iter()
            .filter(|runtime| !runtime.publisher.is_empty());
        known
            .map(|runtime| format!("{}={}", runtime.name, runtime.publisher))
            .collect()
    }

    /// A call for each runtime to enter.
    fn calls(&self, dialect: Dialect) -> String {
        let calls = self.enter.iter().map(|runtime| {
            let words = [runtime.name, runtime.variable].into_iter();
            let words = words.chain(runtime.folders.iter().map(String::as_str));
            format!("  __vshelf_enter {}\n", quoted(dialect, words))
        });
        calls.collect()
    }

    fn render_posix(&self, dialect: Dialect) -> String {
        // Unrolled, because a shell's loop costs many times what it tests. Where a shell has conditions of its own, all
        // tests are one command, in which nothing is split and quotes would only take time.
        let (open, close, folder) = match dialect {
            Dialect::Sh => ("[", "]", "\"$1\""),
            _ => ("[[", "]]", "$1"),
        };
        let joined = |tests: Vec<String>, operator: &str| match dialect {
            _ if tests.is_empty() => None,
            Dialect::Sh => Some(tests.join(&format!(" ] {operator}\n    [ "))),
            _ => Some(tests.join(&format!(" {operator}\n    "))),
        };
        let tests = self.requirements.iter();
        let tests = tests.map(|name| format!("-f {folder}/{}", quote::posix(name)));
        let any = joined(tests.collect(), "||");
        let any = any.map_or("return 1".to_owned(), |tests| {
            format!("{open} {tests} {close}")
        });
        let below_data = |path: &str| format!("\"$__vshelf_data\"/{}", quote::posix(path));
        let current = joined(self.are_current(below_data), "&&");
        let current = current.map_or("true".to_owned(), |tests| format!("{open} {tests} {close}"));
        let names: String = self
            .requirements
            .iter()
            .map(|name| format!("{name}\n"))
            .collect();
        format!(
            "__vshelf_requirements={}\n__vshelf_mains={}\n__vshelf_says={}\n__vshelf_has_requirement() {{\n  {}\n}}\n__vshelf_is_current() {{\n  {}\n}}\n__vshelf_name_all() {{\n  VSHELF_ACTIVE=''\n{}  \\export VSHELF_ACTIVE\n}}\n__vshelf_enter_all() {{\n  :\n{}{}  __vshelf_name_all\n}}\n",
            quote::posix(&names),
            quote::posix(&self.mains().join(" ")),
            quote::posix(self.says),
            any,
            current,
            self.names(Dialect::Bash),
            self.quick_posix(),
            self.calls(Dialect::Bash),
        )
    }

    /// Whether the defaults are still those that this list tells of, as tests: another shell can change them.
    /// `below_data` spells a path below the data folder.
    fn are_current(&self, below_data: impl Fn(&str) -> String) -> Vec<String> {
        let tests = self.enter.iter().map(|runtime| {
            let link = below_data(&format!("default/{}", runtime.name));
            match &runtime.default_build {
                Some(build) => {
                    let build = below_data(&format!("shelf/{}/{build}", runtime.name));
                    format!("{link} -ef {build}")
                }
                None => format!("! -e {link}"),
            }
        });
        tests.collect()
    }

    /// A call for each runtime to name what is active of it.
    fn names(&self, dialect: Dialect) -> String {
        let calls = self.enter.iter().map(|runtime| {
            let words = [runtime.name, runtime.default].into_iter();
            format!("  __vshelf_name_active {}\n", quoted(dialect, words))
        });
        calls.collect()
    }

    /// What is active where nothing but the defaults is.
    fn defaults_named(&self) -> String {
        let named = self
            .enter
            .iter()
            .filter(|runtime| !runtime.default.is_empty());
        let named: Vec<String> = named
            .map(|runtime| format!("{} {}", runtime.name, runtime.default))
            .collect();
        named.join(", ")
    }

    /// What most new shells do, in one go for all runtimes: nothing is switched or followed, and neither
    /// PATH nor a home variable has anything of ours but the defaults, in front, from the shell that
    /// started this one. What others do is among the functions that are read when they are needed.
    fn quick_posix(&self) -> String {
        if self.enter.is_empty() {
            return String::new();
        }
        let base = |runtime: &EnteredRuntime<'_>| {
            format!("\"$__vshelf_data\"/default/{}", quote::posix(runtime.name))
        };
        // What is entered last stands first.
        let entries: String = (self.enter.iter().rev())
            .flat_map(|runtime| runtime.folders.iter().map(move |folder| (runtime, folder)))
            .map(|(runtime, folder)| format!("{}/{}:", base(runtime), quote::posix(folder)))
            .collect();
        let values: String = (self.with_variable())
            .map(|runtime| {
                let (variable, base) = (runtime.variable, base(runtime));
                format!(
                    "  __vshelf_value=${{{variable}-}}\n  __vshelf_rest=$__vshelf_rest:${{__vshelf_value#{base}}}\n"
                )
            })
            .collect();
        let exports: String = (self.with_variable())
            .map(|runtime| {
                let (variable, base) = (runtime.variable, base(runtime));
                format!(
                    "      if [ -d {base} ]; then \\export {variable}={base}; elif [ \"${{{variable}-}}\" = {base} ]; then \\unset -v {variable}; fi\n"
                )
            })
            .collect();
        let entries = entries.trim_end_matches(':');
        format!(
            "  __vshelf_entry={entries}\n  __vshelf_path=${{PATH#\"$__vshelf_entry\":}}\n  __vshelf_rest=$__vshelf_path\n{values}  case ${{VSHELF_SWITCHED-}}$__vshelf_followed:$__vshelf_rest in\n    [!:]* | *\"$__vshelf_data\"/default/* | *\"$__vshelf_data\"/shelf/*) ;;\n    *)\n      PATH=$__vshelf_entry${{__vshelf_path:+:$__vshelf_path}}\n{exports}      \\export VSHELF_ACTIVE={}\n      return 0\n      ;;\n  esac\n  __vshelf_need || return 0\n",
            quote::posix(&self.defaults_named()),
        )
    }

    fn render_fish(&self, data: &Path) -> String {
        let data = data.to_string_lossy();
        let enter = self.quick_fish(&data);
        let below_data = |path: &str| quote::fish(&format!("{data}/{path}"));
        let current = self.are_current(below_data).into_iter();
        let current = current.map(|test| format!("test {test}"));
        let current = current.collect::<Vec<_>>().join("; and ");
        // One command tests all of them.
        let any = if self.requirements.is_empty() {
            "return 1"
        } else {
            "path filter -qf -- $argv[1]/$__vshelf_requirements"
        };
        let named: String = (self.enter.iter())
            .map(|runtime| {
                let words = [runtime.name, runtime.default].into_iter();
                format!(" (__vshelf_name_active {})", quoted(Dialect::Fish, words))
            })
            .collect();
        format!(
            "set -g __vshelf_requirements {}\nset -g __vshelf_mains {}\nset -g __vshelf_says {}\nfunction __vshelf_has_requirement\n  {any}\nend\nfunction __vshelf_is_current\n  {current}\nend\nfunction __vshelf_name_all\n  set -gx VSHELF_ACTIVE (string join ', ' --{named} | string collect -a)\nend\nfunction __vshelf_enter_all\n{enter}end\n",
            quoted(Dialect::Fish, self.requirements.iter().map(String::as_str)),
            quoted(Dialect::Fish, self.mains().iter().map(String::as_str)),
            quote::fish(self.says),
        )
    }

    /// The same as [`EnteredRuntimes::quick_posix`] for fish.
    fn quick_fish(&self, data: &str) -> String {
        if self.enter.is_empty() {
            return String::new();
        }
        let count: usize = (self.enter.iter())
            .map(|runtime| runtime.folders.len())
            .sum();
        let mut homes = String::new();
        let mut exports = String::new();
        for runtime in self.with_variable() {
            let (variable, base) = (runtime.variable, quote::fish(&runtime.base(data)));
            homes.push_str(&format!(
                "  test \"${variable}\" = {base}; or set -a homes \"${variable}/\"\n"
            ));
            exports.push_str(&format!(
                "  if test -d {base}\n    set -gx {variable} {base}\n  else if test \"${variable}\" = {base}\n    set -e {variable}\n  end\n"
            ));
        }
        let any_below = |folder: &str| {
            let below = quote::fish(&(quote::wildcard(&format!("{data}/{folder}/")) + "*"));
            format!("string match -q -- {below} '' $rest $homes")
        };
        format!(
            "  set -l --path ours {}\n  set -l rest $PATH\n  test \"$PATH[1..{count}]\" = \"$ours\"; and set rest $PATH[{}..]\n  set -l homes\n{homes}  if set -q VSHELF_SWITCHED[1]; or set -q __vshelf_followed[1]; or {}; or {}\n    __vshelf_need; or return\n{}    __vshelf_name_all\n    return\n  end\n  set -gx PATH $ours $rest\n  set -gx VSHELF_ACTIVE {}\n{exports}",
            self.defaults(Dialect::Fish, data),
            count + 1,
            any_below("default"),
            any_below("shelf"),
            self.calls(Dialect::Fish),
            quote::fish(&self.defaults_named()),
        )
    }

    /// Lists that run in step, because the shell has no functions; then, unrolled, what most new
    /// shells do, and the test before each prompt of whether there is anything to follow.
    fn render_tcsh(&self, data: &Path) -> String {
        let list = |name: &str, words: Vec<String>| {
            let words = words.iter().map(String::as_str);
            format!("set __vshelf_{name} = ({})\n", quoted(Dialect::Tcsh, words))
        };
        let of_each =
            |what: fn(&EnteredRuntime<'_>) -> String| self.enter.iter().map(what).collect();
        let folders = self.enter.iter().flat_map(|runtime| {
            let name = || runtime.name.to_owned();
            runtime
                .folders
                .iter()
                .map(move |folder| (folder.clone(), name()))
        });
        let (folders, folders_of) = folders.unzip();
        let data = data.to_string_lossy();
        let below = |folder: &str| {
            let folders = self.enter.iter().map(|runtime| {
                let folder = format!("{data}/{folder}/{}/", runtime.name);
                quote::tcsh_pattern(&folder) + "*"
            });
            folders.collect()
        };
        let any = format!("*{}*", quote::tcsh_pattern(&format!("{data}/")));
        [
            list("requirements", self.requirements.to_vec()),
            list("mains", self.mains()),
            list("says", vec![self.says.to_owned()]),
            list("runtimes", of_each(|runtime| runtime.name.to_owned())),
            list("variables", of_each(|runtime| runtime.variable.to_owned())),
            list("shown", of_each(|runtime| runtime.default.to_owned())),
            list("installs", below("shelf")),
            list("defaults", below("default")),
            list("folders", folders),
            list("folders_of", folders_of),
            list("any", vec![any]),
            self.tcsh_start(&data),
            self.tcsh_look(),
        ]
        .concat()
    }

    /// Enters the defaults where nothing is switched or followed, and nothing of ours is there yet.
    fn tcsh_start(&self, data: &str) -> String {
        let unset = (self.with_variable()).map(|runtime| format!(" && ! $?{}", runtime.variable));
        let set = self.with_variable().map(|runtime| {
            let base = quote::tcsh(&runtime.base(data));
            format!("  if ( -d {base} ) setenv {} {base}\n", runtime.variable)
        });
        format!(
            "if ( $__vshelf_enters && ! $?VSHELF_SWITCHED && ! $#__vshelf_followed && $PATH:q !~ $__vshelf_any:q{} ) then\n  set __vshelf_enters = 0\n  set path = ({} $path:q)\n  setenv VSHELF_ACTIVE {}\n{}endif\n",
            unset.collect::<String>(),
            self.defaults(Dialect::Tcsh, data),
            quote::tcsh(&self.defaults_named()),
            set.collect::<String>(),
        )
    }

    /// Whether there is something to follow, in one statement for a folder that was found empty and one for others;
    /// deeper folders are for the loop.
    fn tcsh_look(&self) -> String {
        /// Folders above the working one that the second statement looks into.
        const LEVELS: usize = 11;
        let is_in = |folder: &str| -> Vec<String> {
            let places = 1..=self.requirements.len();
            places
                .map(|at| format!("-f {folder}:q/$__vshelf_requirements[{at}]:q"))
                .collect()
        };
        let mut here = vec!["$#__vshelf_followed".to_owned()];
        let mut above = here.clone();
        if !self.requirements.is_empty() {
            here.push("( $cwd:q != $__vshelf_empty:q )".to_owned());
            here.extend(is_in("$cwd"));
            let mut folder = "$cwd".to_owned();
            for _ in 0..=LEVELS {
                above.extend(is_in(&folder));
                folder.push_str(":h");
            }
            above.push(format!("{folder}:q != ''"));
        }
        let look = format!("if ( {} ) eval $__vshelf_look_above:q", here.join(" || "));
        let above = format!(
            "set __vshelf_empty = $cwd:q; if ( {} ) source $__vshelf_data:q/connect/functions.tcsh look",
            above.join(" || "),
        );
        format!(
            "set __vshelf_empty = ''\nset __vshelf_look_above = {}\nalias __vshelf_look {}\n",
            quote::tcsh(&above),
            quote::tcsh(&look)
        )
    }
}

fn quoted<'w>(dialect: Dialect, words: impl Iterator<Item = &'w str>) -> String {
    let words: Vec<String> = words.map(|word| dialect.quote(word)).collect();
    words.join(" ")
}
