//! The table of errors: the class of each, and the advice that goes with it.

use vshelf_core::diagnosis::{Action, Class, Diagnosis};

use crate::layout::LayoutError;
use crate::state::StateError;
use crate::store::ShelfError;

impl ShelfError {
    /// Its class and the advice against it.
    pub fn diagnosis(&self) -> Diagnosis {
        match self {
            ShelfError::File { source, .. }
            | ShelfError::State(StateError::File { source, .. })
            | ShelfError::Layout(LayoutError::File { source, .. }) => {
                Class::Disk.alone().of_io(source)
            }
            ShelfError::State(StateError::Damaged { path, .. }) => Class::Disk
                .note("It holds the default and the labels; the installs are not touched by moving it away.")
                .step(
                    "To set it aside and start over",
                    Action::SetAside(path.clone(), ".damaged"),
                ),
            ShelfError::State(StateError::Newer { .. })
            | ShelfError::Layout(LayoutError::Newer { .. }) => {
                Class::Disk.note("Use the newer vshelf that wrote it.")
            }
            ShelfError::Layout(LayoutError::Older { data }) => Class::Disk
                .note("That layout was never published and is not read; its installs can be made again.")
                .step("To move it aside", Action::SetAside(data.clone(), ".older")),
            ShelfError::Layout(LayoutError::Migration { source, .. }) => (Class::Disk.alone())
                .of_io(source)
                .note("Nothing is lost; the next command resumes."),
            ShelfError::OtherDisk { .. } => Class::Disk.note(
                "Removing is one rename, which needs both on one file system: something is mounted there, or it is in a lower layer of an overlay. Nothing was changed.",
            ),
            ShelfError::Record(_) => {
                Class::Disk.step("To see what can be done", Action::CheckUp)
            }
            ShelfError::Lock(_) | ShelfError::Gone { .. } => Class::Disk.alone(),
        }
    }
}
