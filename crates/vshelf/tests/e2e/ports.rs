//! Where servers of the tests answer.

use std::net::{TcpListener, TcpStream};
use std::thread;
use std::time::{Duration, Instant};

/// A port of this machine that nobody listens at.
pub fn free_port() -> u16 {
    let free = TcpListener::bind("127.0.0.1:0").unwrap();
    free.local_addr().unwrap().port()
}

/// Waits until a server answers there.
pub fn wait_for(host: &str, port: u16) {
    let begun = Instant::now();
    while TcpStream::connect((host, port)).is_err() {
        assert!(begun.elapsed() < Duration::from_secs(20));
        thread::sleep(Duration::from_millis(20));
    }
}
