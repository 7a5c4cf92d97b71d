//! Shell integration: the static files, the line that sources them, and the text that a switch
//! evaluates.
//!
//! Everything that becomes shell code passes through [`quote`]: a version, label or path is data.

pub mod changes;
pub mod connection;
pub mod quote;
pub mod start_up;

use std::str::FromStr;

pub use changes::Changes;

/// A shell that can be connected.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Dialect {
    /// GNU bash, 3.2 and later.
    Bash,
    /// zsh.
    Zsh,
    /// fish, 3.5 and later.
    Fish,
    /// A shell with no more than POSIX asks for, such as dash and BusyBox's ash.
    Sh,
    /// The KornShell of 1993.
    Ksh,
    /// mksh, the MirBSD KornShell.
    Mksh,
    /// Elvish, 0.19 and later.
    Elvish,
    /// tcsh.
    Tcsh,
    /// xonsh, 0.13 and later.
    Xonsh,
    /// Nushell.
    Nu,
    /// PowerShell, 7 and later.
    PowerShell,
}

impl Dialect {
    /// Every shell, in the order in which they are listed.
    pub const ALL: [Dialect; 11] = [
        Dialect::Bash,
        Dialect::Zsh,
        Dialect::Fish,
        Dialect::Sh,
        Dialect::Ksh,
        Dialect::Mksh,
        Dialect::Elvish,
        Dialect::Tcsh,
        Dialect::Xonsh,
        Dialect::Nu,
        Dialect::PowerShell,
    ];

    /// The shell's name.
    pub fn name(self) -> &'static str {
        match self {
            Dialect::Bash => "bash",
            Dialect::Zsh => "zsh",
            Dialect::Fish => "fish",
            Dialect::Sh => "sh",
            Dialect::Ksh => "ksh",
            Dialect::Mksh => "mksh",
            Dialect::Elvish => "elvish",
            Dialect::Tcsh => "tcsh",
            Dialect::Xonsh => "xonsh",
            Dialect::Nu => "nu",
            Dialect::PowerShell => "powershell",
        }
    }

    /// What the names of its files end with, behind the point.
    pub fn extension(self) -> &'static str {
        match self {
            Dialect::Elvish => "elv",
            Dialect::Xonsh => "py",
            Dialect::PowerShell => "ps1",
            _ => self.name(),
        }
    }

    /// Whether it reads JSON: such a shell is given data, and evaluates nothing.
    pub fn reads_json(self) -> bool {
        matches!(
            self,
            Dialect::Elvish | Dialect::Xonsh | Dialect::Nu | Dialect::PowerShell
        )
    }

    /// Other names of its programs.
    fn other_names(self) -> &'static [&'static str] {
        match self {
            Dialect::Sh => &["dash", "ash", "busybox"],
            Dialect::Ksh => &["ksh93"],
            Dialect::Tcsh => &["csh"],
            Dialect::Nu => &["nushell"],
            Dialect::PowerShell => &["pwsh"],
            _ => &[],
        }
    }

    /// `text` as one word of its code.
    pub fn quote(self, text: &str) -> String {
        match self {
            Dialect::Fish => quote::fish(text),
            Dialect::Tcsh => quote::tcsh(text),
            Dialect::Xonsh | Dialect::Nu => quote::escaped(text),
            Dialect::Elvish => quote::doubled(text, "'"),
            // Every apostrophe ends a string there (PowerShell documentation, "about_Quoting_Rules").
            Dialect::PowerShell => quote::doubled(text, "'\u{2018}\u{2019}\u{201a}\u{201b}"),
            Dialect::Bash | Dialect::Zsh | Dialect::Sh | Dialect::Ksh | Dialect::Mksh => {
                quote::posix(text)
            }
        }
    }
}

/// A shell that cannot be connected.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("{0:?} is not a shell that can be connected")]
pub struct UnknownShell(pub String);

impl FromStr for Dialect {
    type Err = UnknownShell;

    /// Reads a shell's name, or the path of its program.
    fn from_str(text: &str) -> Result<Self, UnknownShell> {
        let name = text
            .rsplit('/')
            .next()
            .unwrap_or(text)
            .trim_start_matches('-');
        Dialect::ALL
            .into_iter()
            .find(|dialect| dialect.name() == name || dialect.other_names().contains(&name))
            .ok_or_else(|| UnknownShell(text.to_owned()))
    }
}
