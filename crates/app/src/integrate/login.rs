//! Login shells, which some shells open by other start-up files than the rest.

use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use std::time::Duration;

use vshelf_shelf::probe;
use vshelf_shell::start_up::{self, Opened};
use vshelf_shell::{Dialect, connection};

use super::start_up_files::{read_or_empty, through_links, write_start_up_file};
use crate::environment::Environment;
use crate::error::Error;

/// How long a shell may take to open while it is looked at.
const PATIENCE: Duration = Duration::from_secs(5);

/// The output of a probed shell that is connected.
const MARK: &str = "vivid-shelf is connected";

/// The start-up file that a login shell of this kind reads, or the one to make if there is none: `None` if login shells
/// read the file of all interactive shells.
pub fn login_file(environment: &Environment, dialect: Dialect) -> Result<Option<PathBuf>, Error> {
    let home = environment.variables().home().ok_or(Error::NoHome)?;
    let files = start_up::login_files(dialect).iter();
    let files: Vec<PathBuf> = files.map(|name| home.join(name)).collect();
    let read = files.iter().find(|file| file.exists());
    // The last one hides none that may come later.
    Ok(read.or(files.last()).map(|file| through_links(file)))
}

/// Every start-up file of login shells with our block, and its text without it.
pub fn connected_files(
    environment: &Environment,
    dialect: Dialect,
) -> Result<Vec<(PathBuf, String)>, Error> {
    let home = environment.variables().home().ok_or(Error::NoHome)?;
    let files = start_up::login_files(dialect).iter();
    let files = files.map(|name| through_links(&home.join(name)));
    let with_block = files.filter_map(|file| {
        // A file that cannot be read has no block that could be removed.
        let text = read_or_empty(&file).unwrap_or_default();
        Some((file, start_up::without_block(&text, Opened::AtLogin)?))
    });
    Ok(with_block.collect())
}

/// Connects login shells if they do not read the file of all interactive shells. Returns the file with the block, and
/// whether it changed.
pub fn connect_login(
    environment: &Environment,
    dialect: Dialect,
    integration: &Path,
) -> Result<Option<(PathBuf, bool)>, Error> {
    let Some(file) = login_file(environment, dialect)? else {
        return Ok(None);
    };
    let text = read_or_empty(&file)?;
    let has_block = start_up::without_block(&text, Opened::AtLogin).is_some();
    let leads = start_up::mentions_usual_file(&text)
        && is_connected(environment, dialect, Opened::AtLogin) != Some(false);
    if leads && !has_block {
        return Ok(None);
    }
    let with_block = start_up::with_block(&text, dialect, Opened::AtLogin, integration);
    let is_changed = with_block != text;
    if is_changed {
        write_start_up_file(&file, &with_block)?;
    }
    Ok(Some((file, is_changed)))
}

/// Whether a new shell is connected, as the shell itself says: `None` if that cannot be tried. It runs without a
/// terminal, so that it takes nobody's.
pub fn is_connected(environment: &Environment, dialect: Dialect, opened: Opened) -> Option<bool> {
    if dialect != Dialect::Bash {
        return None;
    }
    let mut shell = Command::new("setsid");
    shell.args(["--wait", "bash"]).stdin(Stdio::null());
    shell.env_clear().envs(environment.variables().all());
    if opened == Opened::AtLogin {
        shell.arg("--login");
    }
    let script = format!(
        "type {} >/dev/null 2>&1 && echo '{MARK}'",
        connection::FUNCTION
    );
    shell.args(["-i", "-c", &script]);
    let output = probe::run(shell, PATIENCE).ok()?;
    // A shell that another program replaced says nothing.
    let has_mark = String::from_utf8_lossy(&output.stdout).contains(MARK);
    (has_mark || output.status.code() == Some(1)).then_some(has_mark)
}
