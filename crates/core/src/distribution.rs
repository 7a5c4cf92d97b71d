//! Which family of systems this one is of, and how packages are installed there. Nothing here installs
//! anything: a person is told the command.

/// A family of systems that share their packages' names.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Distribution {
    /// The name in definitions: `debian`, `fedora` …
    pub name: &'static str,
    /// What its packages are installed with.
    command: &'static str,
}

/// The families, by the names that `ID` and `ID_LIKE` have in os-release(5).
const FAMILIES: [Distribution; 5] = [
    Distribution {
        name: "debian",
        command: "sudo apt-get install",
    },
    Distribution {
        name: "fedora",
        command: "sudo dnf install",
    },
    Distribution {
        name: "alpine",
        command: "sudo apk add",
    },
    Distribution {
        name: "arch",
        command: "sudo pacman -S",
    },
    Distribution {
        name: "suse",
        command: "sudo zypper install",
    },
];

/// macOS, which has no os-release.
pub const MACOS: Distribution = Distribution {
    name: "macos",
    command: "brew install",
};

impl Distribution {
    /// The names that definitions have packages for.
    pub const NAMES: [&'static str; 6] = ["debian", "fedora", "alpine", "arch", "suse", "macos"];

    /// The family of the system that `os_release` (the text of `/etc/os-release`) describes.
    pub fn of(os_release: &str) -> Option<Distribution> {
        let value = |key: &str| {
            let line = os_release.lines().find_map(|line| line.strip_prefix(key))?;
            Some(line.trim_matches('"').to_lowercase())
        };
        let named = [value("ID="), value("ID_LIKE=")];
        let family_of = |name: &str| {
            let mut families = FAMILIES.into_iter();
            families.find(|family| family.name == name)
        };
        let mut named = named.into_iter().flatten();
        named.find_map(|names| names.split_whitespace().find_map(family_of))
    }

    /// The command that installs these packages, for root or for a person who has to become root.
    pub fn install_command(&self, packages: &[&str], as_root: bool) -> String {
        let plain = self.command.strip_prefix("sudo ");
        let command = plain.filter(|_| as_root).unwrap_or(self.command);
        format!("{command} {}", packages.join(" "))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("ID=debian\n", Some("sudo apt-get install kelp-dev"))]
    #[case(
        "NAME=x\nID=ubuntu\nID_LIKE=debian\n",
        Some("sudo apt-get install kelp-dev")
    )]
    #[case(
        "ID=\"rocky\"\nID_LIKE=\"rhel centos fedora\"\n",
        Some("sudo dnf install kelp-dev")
    )]
    #[case("ID=alpine\n", Some("sudo apk add kelp-dev"))]
    #[case(
        "ID=opensuse-leap\nID_LIKE=\"suse opensuse\"\n",
        Some("sudo zypper install kelp-dev")
    )]
    #[case("ID=gull\n", None)]
    #[case("", None)]
    fn a_system_is_of_a_family(#[case] os_release: &str, #[case] expected: Option<&str>) {
        let command =
            Distribution::of(os_release).map(|one| one.install_command(&["kelp-dev"], false));
        assert_eq!(command.as_deref(), expected);
    }

    #[test]
    fn root_becomes_nobody_else() {
        let command = |os_release| {
            let system = Distribution::of(os_release).unwrap();
            system.install_command(&["kelp-dev", "sand-dev"], true)
        };
        assert_eq!(command("ID=debian"), "apt-get install kelp-dev sand-dev");
        assert_eq!(MACOS.install_command(&["kelp"], true), "brew install kelp");
    }
}
