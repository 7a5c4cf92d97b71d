//! Installing: from requests to jobs, each carried out as one transaction.

pub mod companions;
pub mod conclude;
pub mod execute;
pub mod first_start;
pub mod from_source;
pub mod job;
pub mod last_build;
pub mod locked_install;
pub mod missing;
pub mod plan;
pub mod request;
pub mod run;
pub mod transfer;
