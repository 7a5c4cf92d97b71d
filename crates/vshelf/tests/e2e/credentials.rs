//! Servers that want to know who asks, and what is read of the person's clients for them.

use std::io::{Read, Write};
use std::net::TcpListener;
use std::sync::mpsc::{Receiver, channel};
use std::thread;

use crate::nginx::Nginx;
use crate::process;
use crate::scene::{Ran, Scene};

const PASSWORD: &str = "spring-tide-7";

/// A mirror behind a password, and a machine that knows its definition but not the password.
fn behind_a_password(more: &str) -> Option<(Scene, Nginx, Scene)> {
    let scene = Scene::new();
    scene.does(&["mirror", "lts", "--to", "site"]);
    scene.write("users", &format!("gull:{{PLAIN}}{PASSWORD}\n"));
    let users = scene.path("users").display().to_string();
    let auth = format!("auth_basic board; auth_basic_user_file {users}; {more}");
    let nginx = Nginx::start(&scene, &auth)?;
    let mut other = Scene::new();
    other.stop_server();
    let definition = std::fs::read_to_string(scene.path("site/marram/marram.toml")).unwrap();
    let address = format!("\"{}/marram/catalog.json\"", nginx.address());
    let file = ".config/vivid-shelf/runtimes/marram.toml";
    other.write(file, &definition.replace("\"catalog.json\"", &address));
    Some((scene, nginx, other))
}

fn told(ran: &Ran, code: i32, all: &[&str]) {
    assert_eq!(ran.code, code, "{ran}");
    for text in all {
        assert!(ran.stderr.contains(text), "{text}: {ran}");
    }
}

#[test]
fn a_server_behind_a_password_is_asked_with_what_the_persons_clients_have() {
    let Some((_scene, nginx, other)) = behind_a_password("") else {
        return;
    };
    let host = format!("127.0.0.1:{}", nginx.port());
    told(
        &other.vshelf(&["install", "8"]),
        4,
        &[
            "asks for credentials",
            &format!("in a line such as //{host}/:_authToken=TOKEN"),
        ],
    );
    other.write(
        ".netrc",
        "machine 127.0.0.1 login gull password neap-tide\n",
    );
    told(
        &other.vshelf(&["install", "8"]),
        4,
        &["It does not accept the credentials in ~/.netrc."],
    );
    let netrc = format!("machine 127.0.0.1 login gull password {PASSWORD}\n");
    other.write(".netrc", &netrc);
    other.does(&["install", "8"]);
    assert_eq!(other.on_shelf(), ["8.3.1"]);
    // It stands where it stood, and nowhere else.
    let found = process::output(
        process::command("grep")
            .args(["-rlE", &format!("{PASSWORD}|Z3VsbDpzcHJpbmctdGlkZS03")])
            .arg(other.home()),
    );
    let found = String::from_utf8(found.stdout).unwrap();
    assert_eq!(found, format!("{}\n", other.path(".netrc").display()));
    // The npm client's settings have it in other forms, and may leave it to a variable.
    other.write(".netrc", "");
    for line in [
        format!("//{host}/:_auth=Z3VsbDpzcHJpbmctdGlkZS03\n"),
        format!("//{host}/:username=gull\n//{host}/:_password=c3ByaW5nLXRpZGUtNw==\n"),
        format!("//{host}/marram/:_auth=${{AUTH_OF_GULL}}\n"),
    ] {
        other.write(".npmrc", &line);
        let mut install = other.command(crate::scene::PROGRAM);
        install
            .env("AUTH_OF_GULL", "Z3VsbDpzcHJpbmctdGlkZS03")
            .args(["install", "8", "--again"]);
        let ran = other.run(&mut install);
        assert_eq!(ran.code, 0, "{line}: {ran}");
    }
}

#[test]
fn what_may_not_be_had_is_told_from_not_being_known() {
    let Some((_scene, _nginx, other)) = behind_a_password("location /marram/files/ { deny all; }")
    else {
        return;
    };
    let netrc = format!("machine 127.0.0.1 login gull password {PASSWORD}\n");
    other.write(".netrc", &netrc);
    told(
        &other.vshelf(&["install", "8"]),
        4,
        &[
            "is denied",
            "The credentials in ~/.netrc were sent; the people who run the server grant access.",
        ],
    );
    assert!(other.on_shelf().is_empty());
}

/// Another server, by another name; its port, and what it is asked, in small letters.
pub fn elsewhere() -> (u16, Receiver<String>) {
    let elsewhere = TcpListener::bind("127.0.0.1:0").unwrap();
    let port = elsewhere.local_addr().unwrap().port();
    let (heard, requests) = channel();
    thread::spawn(move || {
        for connection in elsewhere.incoming() {
            let mut connection = connection.unwrap();
            let mut bytes = [0; 4096];
            let count = connection.read(&mut bytes).unwrap();
            let text = String::from_utf8_lossy(&bytes[..count]).to_lowercase();
            heard.send(text).unwrap();
            let answer = "HTTP/1.1 404 Not Found\r\ncontent-length: 0\r\nconnection: close\r\n\r\n";
            connection.write_all(answer.as_bytes()).unwrap();
        }
    });
    (port, requests)
}

#[test]
fn credentials_stay_at_home_when_a_server_sends_on_to_another() {
    let (port, requests) = elsewhere();
    let moved = format!("location /marram/files/ {{ return 302 http://localhost:{port}$uri; }}");
    let Some((_scene, _nginx, other)) = behind_a_password(&moved) else {
        return;
    };
    let netrc = format!("machine 127.0.0.1 login gull password {PASSWORD}\n");
    other.write(".netrc", &netrc);
    let ran = other.vshelf(&["install", "8"]);
    assert_eq!(ran.code, 4, "{ran}");
    let request = requests.try_recv().unwrap();
    assert!(request.contains("host: localhost"), "{request}");
    assert!(!request.contains("authorization"), "{request}");
}

#[test]
fn a_server_is_told_what_the_settings_say_and_no_other_is() {
    let (port, requests) = elsewhere();
    let scene = Scene::new();
    scene.does(&["mirror", "lts", "6", "--to", "site"]);
    let more = format!(
        "if ($http_x_board_token != {PASSWORD}) {{ return 403; }}
         location /marram/files/saltmarsh/marram-6 {{ return 302 http://localhost:{port}$uri; }}"
    );
    let Some(nginx) = Nginx::start(&scene, &more) else {
        return;
    };
    let mut other = Scene::new();
    other.stop_server();
    let settings = format!("[headers.\"127.0.0.1:{}\"]\nX-Board-Token = ", nginx.port());
    let file = ".config/vivid-shelf/shelf.toml";
    other.write(file, &format!("{settings}\"${{BOARD_TOKEN}}\"\n"));
    let add = format!("{}/marram/marram.toml", nginx.address());
    told(
        &other.vshelf(&["runtimes", "--add", &add]),
        4,
        &["is denied"],
    );
    let knowing = |arguments: &[&str]| {
        let mut command = other.command(crate::scene::PROGRAM);
        command.env("BOARD_TOKEN", PASSWORD).args(arguments);
        other.run(&mut command)
    };
    for arguments in [&["runtimes", "--add", &add][..], &["install", "marram@8"]] {
        let ran = knowing(arguments);
        assert_eq!(ran.code, 0, "{ran}");
    }
    assert_eq!(knowing(&["install", "marram@6"]).code, 4);
    let request = requests.try_recv().unwrap();
    assert!(request.contains("host: localhost"), "{request}");
    assert!(!request.contains("x-board-token"), "{request}");
    // A value that stands there itself is not shown either.
    other.write(file, &format!("{settings}\"{PASSWORD}\"\n"));
    let shown = other.does(&["config"]).stdout;
    let mut rows = shown.lines();
    let row = rows.find(|row| row.contains("X-Board-Token")).unwrap();
    assert!(row.ends_with("  not shown"), "{shown}");
    assert!(!shown.contains(PASSWORD), "{shown}");
    other.write(file, &format!("{settings}\"tide\\n\"\n"));
    told(
        &other.vshelf(&["catalog", "marram"]),
        6,
        &[
            "the value of X-Board-Token for 127.0.0.1:",
            "cannot be in a header",
        ],
    );
}
