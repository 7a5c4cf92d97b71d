//! Names that no other process chooses, on this machine or on another that shares the home.

/// A random number of `bytes` bytes in hexadecimal.
pub(crate) fn random_name(bytes: usize) -> String {
    let mut number = vec![0; bytes];
    getrandom::fill(&mut number)
        .expect("every system that is supported has a source of random numbers");
    number.iter().map(|byte| format!("{byte:02x}")).collect()
}
