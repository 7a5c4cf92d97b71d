//! Whose files may say what a project requires.
//!
//! Anyone can drop a file into a shared folder such as `/tmp`, above a folder that somebody else works in. So
//! a file counts only if this user, the administrator or the owner of its folder put it there.

/// The id of the administrator.
const ROOT: u32 = 0;

/// The permission that lets every user add files to a folder (POSIX `S_IWOTH`).
const WORLD_WRITABLE: u32 = 0o002;

/// The permission that lets users remove only their own files from a folder (POSIX `S_ISVTX`).
const STICKY: u32 = 0o1000;

/// The owners of a file and of the folder it lies in, as user ids.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Ownership {
    /// The owner of the file.
    pub file: u32,
    /// The owner of its folder.
    pub folder: u32,
    /// The permission bits of its folder.
    pub folder_mode: u32,
}

/// Why a file does not count.
#[derive(Clone, Copy, Debug, PartialEq, Eq, thiserror::Error)]
pub enum Distrust {
    /// It is a symbolic link.
    #[error("it is a symbolic link")]
    Symlink,
    /// Another user put it there.
    #[error(
        "it belongs to the user with the id {owner}, who owns neither its folder nor this shelf"
    )]
    Owner {
        /// The user's id.
        owner: u32,
    },
    /// Everybody can replace it.
    #[error("everybody can write to its folder (it belongs to the user with the id {owner})")]
    OpenFolder {
        /// The id of the file's owner.
        owner: u32,
    },
}

impl Ownership {
    /// Returns why the file does not count for this user, or `None` if it does.
    ///
    /// It counts if it belongs to this user or the administrator and only its owner can replace it, or if
    /// it belongs to the owner of its folder and no others can write there. So a checkout that belongs to another
    /// user as a whole counts, as in a container.
    pub fn distrust(self, user: u32) -> Option<Distrust> {
        let is_open = self.folder_mode & WORLD_WRITABLE != 0;
        let is_sticky = self.folder_mode & STICKY != 0;
        let owner = self.file;
        let is_own = owner == ROOT || owner == user;
        if is_own && (!is_open || is_sticky) || owner == self.folder && !is_open {
            None
        } else if is_own || owner == self.folder {
            Some(Distrust::OpenFolder { owner })
        } else {
            Some(Distrust::Owner { owner })
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    const OWN: u32 = 1000;
    const OTHER: u32 = 1001;

    #[rstest]
    #[case::own_checkout(OWN, OWN, 0o755, true)]
    #[case::own_file_in_tmp(OWN, ROOT, 0o1777, true)]
    #[case::own_file_in_an_open_folder(OWN, OWN, 0o777, false)]
    #[case::administrators_file(ROOT, ROOT, 0o755, true)]
    #[case::administrators_file_in_a_group_folder(ROOT, OTHER, 0o775, true)]
    #[case::checkout_of_another_user(OTHER, OTHER, 0o755, true)]
    #[case::open_checkout_of_another_user(OTHER, OTHER, 0o777, false)]
    #[case::sticky_folder_of_another_user(OTHER, OTHER, 0o1777, false)]
    #[case::file_of_another_user_in_tmp(OTHER, ROOT, 0o1777, false)]
    #[case::file_of_another_user_in_own_folder(OTHER, OWN, 0o755, false)]
    fn the_owner_and_the_folder_decide_whether_a_file_counts(
        #[case] file: u32,
        #[case] folder: u32,
        #[case] folder_mode: u32,
        #[case] expected: bool,
    ) {
        let ownership = Ownership {
            file,
            folder,
            folder_mode,
        };
        assert_eq!(ownership.distrust(OWN).is_none(), expected);
    }

    #[test]
    fn files_of_others_in_a_shared_folder_count_for_the_administrator_neither() {
        let dropped = Ownership {
            file: OTHER,
            folder: ROOT,
            folder_mode: 0o1777,
        };
        assert_eq!(
            dropped.distrust(ROOT),
            Some(Distrust::Owner { owner: OTHER })
        );
        let own = Ownership {
            file: ROOT,
            ..dropped
        };
        assert_eq!(own.distrust(ROOT), None);
    }
}
