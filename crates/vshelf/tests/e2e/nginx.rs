//! A real web server, which serves the folder `site` of a home.

use crate::ports::{free_port, wait_for};
use crate::process::{self, Started};
use crate::scene::{Scene, program};

/// An nginx that ends with this.
pub struct Nginx {
    _process: Started,
    port: u16,
}

impl Nginx {
    /// Serves the folder, with `more` in the server's part of its settings; nothing where nginx is not here.
    pub fn start(scene: &Scene, more: &str) -> Option<Nginx> {
        let nginx = program("nginx")?;
        let port = free_port();
        let home = scene.home().display();
        // One process, so that it can be ended and reads with the rights of whoever wrote.
        scene.write(
            "nginx.conf",
            &format!(
                "daemon off; master_process off; pid {home}/nginx.pid; error_log {home}/nginx.log;
                 events {{}}
                 http {{ access_log off; client_body_temp_path {home}/a; proxy_temp_path {home}/b;
                   fastcgi_temp_path {home}/c; uwsgi_temp_path {home}/d; scgi_temp_path {home}/e;
                   server {{ listen 127.0.0.1:{port}; root {home}/site; {more} }} }}"
            ),
        );
        let mut command = process::command(nginx);
        command.args(["-c", &scene.path("nginx.conf").display().to_string()]);
        let log = scene.path("nginx.log").display().to_string();
        let process = Started::start(command.args(["-e", &log]));
        wait_for("127.0.0.1", port);
        Some(Nginx {
            _process: process,
            port,
        })
    }

    pub fn port(&self) -> u16 {
        self.port
    }

    pub fn address(&self) -> String {
        format!("http://127.0.0.1:{}", self.port)
    }
}
