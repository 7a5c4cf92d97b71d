//! A real registry of containers, over TLS and with a password or a token service where that is wanted.

use std::fs;
use std::io::{Read, Write};
use std::net::{TcpListener, TcpStream};
use std::path::PathBuf;
use std::process::{Command, Stdio};
use std::sync::{Arc, Mutex};
use std::thread;
use std::time::{Duration, Instant};

use base64::Engine;
use base64::engine::general_purpose::{STANDARD, URL_SAFE_NO_PAD};
use rcgen::{CertificateParams, CertifiedIssuer, IsCa, KeyPair};
use ring::rand::SystemRandom;
use ring::signature::{ECDSA_P256_SHA256_FIXED_SIGNING, EcdsaKeyPair};
use tempfile::TempDir;
use ureq::http::Request;
use ureq::tls::{Certificate, RootCerts, TlsConfig};

use crate::ports::{free_port, wait_for};
use crate::process::{self, Started};
use crate::scene::{Scene, program};

/// The type of a manifest.
pub const MANIFEST: &str = "application/vnd.oci.image.manifest.v1+json";
/// The type of an index.
pub const INDEX: &str = "application/vnd.oci.image.index.v1+json";
/// What `gull` says to get in.
pub const PASSWORD: &str = "spring-tide-7";
/// `gull` and the password, as a file of users has them.
const USERS: &str = "gull:$2y$05$PL7M/UfrbAe7KG4c7VXe3egYxNynVznf/U7swL9Qdts.nqLNiCEjq\n";

/// Who gets in.
pub enum Door {
    Password,
    /// Whoever has a token of the service at this address, which this certificate signed.
    Tokens {
        realm: String,
        certificate: String,
    },
}

/// A registry that ends with this.
pub struct Registry {
    program: PathBuf,
    folder: TempDir,
    port: u16,
    encrypted: bool,
    process: Mutex<Option<Started>>,
}

impl Registry {
    /// Starts one over TLS; nothing where there is none here.
    pub fn start(door: &Door) -> Option<Registry> {
        Registry::serve(door, true)
    }

    /// Starts one, over TLS or not.
    pub fn serve(door: &Door, encrypted: bool) -> Option<Registry> {
        let program = program("docker-registry")?;
        let folder = TempDir::new().unwrap();
        let port = free_port();
        let at = |name: &str| folder.path().join(name).display().to_string();
        let mut authority = CertificateParams::new(Vec::new()).unwrap();
        authority.is_ca = IsCa::Ca(rcgen::BasicConstraints::Unconstrained);
        let authority =
            CertifiedIssuer::self_signed(authority, KeyPair::generate().unwrap()).unwrap();
        let key = KeyPair::generate().unwrap();
        let names = vec!["localhost".to_owned(), "127.0.0.1".to_owned()];
        let certificate = CertificateParams::new(names).unwrap();
        let certificate = certificate.signed_by(&key, &authority).unwrap();
        fs::write(at("authority.pem"), authority.pem()).unwrap();
        fs::write(at("key.pem"), key.serialize_pem()).unwrap();
        fs::write(at("certificate.pem"), certificate.pem()).unwrap();
        fs::write(at("users"), USERS).unwrap();
        let auth = match door {
            Door::Password => format!(
                "auth: {{htpasswd: {{realm: board, path: {}}}}}",
                at("users")
            ),
            Door::Tokens { realm, certificate } => {
                fs::write(at("tokens.pem"), certificate).unwrap();
                format!(
                    "auth: {{token: {{realm: \"{realm}\", service: board, issuer: gull, rootcertbundle: {}}}}}",
                    at("tokens.pem")
                )
            }
        };
        let tls = match encrypted {
            true => format!(
                ", tls: {{certificate: {}, key: {}}}",
                at("certificate.pem"),
                at("key.pem")
            ),
            false => String::new(),
        };
        let settings = format!(
            "version: 0.1\nlog: {{level: error}}\n\
             storage: {{filesystem: {{rootdirectory: {}}}, delete: {{enabled: true}}}}\n{auth}\n\
             http: {{addr: 'localhost:{port}', secret: tide{tls}}}\n",
            at("data"),
        );
        fs::write(at("settings.yml"), settings).unwrap();
        let registry = Registry {
            program,
            folder,
            port,
            encrypted,
            process: Mutex::new(None),
        };
        registry.begin();
        Some(registry)
    }

    fn command(&self, subcommand: &[&str]) -> Command {
        let log = self.folder.path().join("log");
        let log = fs::File::options().create(true).append(true).open(log);
        let mut command = process::command(&self.program);
        command
            .args(subcommand)
            .arg(self.folder.path().join("settings.yml"))
            .stdout(log.unwrap())
            .stderr(Stdio::null());
        command
    }

    /// Starts the process again.
    pub fn begin(&self) {
        let process = Started::start(&mut self.command(&["serve"]));
        *self.process.lock().unwrap() = Some(process);
        wait_for("localhost", self.port);
    }

    /// Waits until a file of an upload has more than so many bytes.
    pub fn wait_for_upload(&self, bytes: u64) {
        let begun = Instant::now();
        let largest = || {
            let found = process::output(
                process::command("find")
                    .arg(self.folder.path().join("data"))
                    .args([
                        "-path",
                        "*_uploads*",
                        "-name",
                        "data",
                        "-size",
                        &format!("+{bytes}c"),
                    ]),
            );
            !found.stdout.is_empty()
        };
        while !largest() {
            assert!(begun.elapsed() < Duration::from_secs(60));
            thread::sleep(Duration::from_millis(5));
        }
    }

    /// Ends the process at once.
    pub fn end(&self) {
        drop(self.process.lock().unwrap().take());
    }

    /// Takes away what nothing names.
    pub fn collect_garbage(&self) {
        self.end();
        let mut clean = self.command(&["garbage-collect", "--delete-untagged"]);
        assert!(process::status(&mut clean).success());
        self.begin();
    }

    /// The address of a repository or prefix.
    pub fn place(&self, name: &str) -> String {
        let scheme = match self.encrypted {
            true => "oci",
            false => "oci+http",
        };
        format!("{scheme}://{}/{name}", self.host())
    }

    pub fn host(&self) -> String {
        format!("localhost:{}", self.port)
    }

    pub fn authority(&self) -> String {
        self.folder
            .path()
            .join("authority.pem")
            .display()
            .to_string()
    }

    /// Has the program trust it, and so know the person with this password.
    pub fn known_to(&self, scene: &Scene, password: &str) {
        let pair = STANDARD.encode(format!("gull:{password}"));
        let host = self.host();
        let file = format!(r#"{{"auths": {{"{host}": {{"auth": "{pair}"}}}}}}"#);
        scene.write(".config/containers/auth.json", &file);
    }

    /// The requests so far, such as `GET /v2/team/marram/manifests/catalog 200`; they are forgotten.
    pub fn requests(&self) -> Vec<String> {
        // The last lines are written after the answers.
        thread::sleep(Duration::from_millis(100));
        let log = self.folder.path().join("log");
        let text = String::from_utf8_lossy(&fs::read(&log).unwrap()).into_owned();
        fs::File::options()
            .write(true)
            .open(&log)
            .unwrap()
            .set_len(0)
            .unwrap();
        let lines = text.lines().filter_map(|line| {
            let (_, rest) = line.split_once('"')?;
            let (request, rest) = rest.split_once('"')?;
            let (request, _) = request.split_once(" HTTP/")?;
            let status = rest.split_whitespace().next()?;
            let request = request.split('?').next()?;
            Some(format!("{request} {status}"))
        });
        lines.collect()
    }

    /// Writes a manifest as somebody else would.
    pub fn put(&self, name: &str, tag: &str, media_type: &str, text: &str) {
        let done = self.ask(
            "PUT",
            &format!("{name}/manifests/{tag}"),
            Some((media_type, text)),
        );
        assert!(done.starts_with("201"), "{done}");
    }

    /// The status of an answer, the digest that it names, and its text, in lines.
    pub fn ask(&self, method: &str, path: &str, sends: Option<(&str, &str)>) -> String {
        let authority = fs::read(self.authority()).unwrap();
        let authority = Certificate::from_pem(&authority).unwrap();
        let agent = ureq::Agent::config_builder()
            .http_status_as_error(false)
            .tls_config(
                TlsConfig::builder()
                    .root_certs(RootCerts::new_with_certs(&[authority]))
                    .build(),
            )
            .build()
            .new_agent();
        let (media_type, text) = sends.unwrap_or_default();
        let pair = STANDARD.encode(format!("gull:{PASSWORD}"));
        let request = Request::builder()
            .method(method)
            .uri(format!("https://{}/v2/{path}", self.host()))
            .header("authorization", format!("Basic {pair}"))
            .header("accept", format!("{MANIFEST}, {INDEX}"))
            .header("content-type", media_type)
            .body(text)
            .unwrap();
        let mut response = agent.run(request).unwrap();
        let digest = response.headers().get("docker-content-digest");
        let digest = digest
            .map_or("", |digest| digest.to_str().unwrap())
            .to_owned();
        let status = response.status().as_u16();
        let text = response.body_mut().read_to_string().unwrap();
        format!("{status}\n{digest}\n{text}")
    }
}

impl Drop for Registry {
    fn drop(&mut self) {
        self.end();
    }
}

/// How a token service answers.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Answers {
    /// As it should.
    Well,
    /// With a token for another repository.
    AnotherRepository,
    /// With something that is no token.
    Rubbish,
    /// By sending on to another place.
    Elsewhere,
}

/// A token service, whose tokens a registry takes.
pub struct TokenService {
    pub realm: String,
    pub certificate: String,
    answers: Arc<Mutex<Answers>>,
    /// The `authorization` of each request, and the scope that was asked for.
    asked: Arc<Mutex<Vec<String>>>,
}

impl TokenService {
    pub fn start() -> TokenService {
        let key = KeyPair::generate().unwrap();
        let certificate = CertificateParams::new(vec!["gull".to_owned()]).unwrap();
        let certificate = certificate.self_signed(&key).unwrap();
        let listener = TcpListener::bind("127.0.0.1:0").unwrap();
        let port = listener.local_addr().unwrap().port();
        let service = TokenService {
            realm: format!("http://127.0.0.1:{port}/token"),
            certificate: certificate.pem(),
            answers: Arc::new(Mutex::new(Answers::Well)),
            asked: Arc::default(),
        };
        let signer = Signer {
            key: key.serialize_der(),
            certificate: certificate.der().to_vec(),
        };
        let (answers, asked) = (Arc::clone(&service.answers), Arc::clone(&service.asked));
        thread::spawn(move || {
            for connection in listener.incoming() {
                let mut connection = connection.unwrap();
                let text = request_of(&mut connection);
                let answer = answer(&text, *answers.lock().unwrap(), &signer);
                asked.lock().unwrap().push(text);
                connection.write_all(answer.as_bytes()).unwrap_or_default();
            }
        });
        service
    }

    pub fn answer(&self, how: Answers) {
        *self.answers.lock().unwrap() = how;
    }

    /// What it was asked so far; it is forgotten.
    pub fn asked(&self) -> Vec<String> {
        std::mem::take(&mut self.asked.lock().unwrap())
    }
}

/// A request, with the form that it may send.
fn request_of(connection: &mut TcpStream) -> String {
    let mut text = String::new();
    let mut bytes = [0; 8192];
    loop {
        let count = connection.read(&mut bytes).unwrap_or(0);
        text.push_str(&String::from_utf8_lossy(&bytes[..count]));
        let Some((head, form)) = text.split_once("\r\n\r\n") else {
            assert!(count > 0, "{text}");
            continue;
        };
        let length = head
            .lines()
            .find_map(|line| line.strip_prefix("content-length: "));
        let length: usize = length.map_or(0, |length| length.parse().unwrap());
        if count == 0 || form.len() >= length {
            return text;
        }
    }
}

struct Signer {
    key: Vec<u8>,
    certificate: Vec<u8>,
}

fn answer(request: &str, how: Answers, signer: &Signer) -> String {
    let with = |status: &str, more: &str, body: &str| {
        let length = body.len();
        format!(
            "HTTP/1.1 {status}\r\n{more}content-length: {length}\r\nconnection: close\r\n\r\n{body}"
        )
    };
    let pair = STANDARD.encode(format!("gull:{PASSWORD}"));
    let is_known = request.contains(&format!("authorization: Basic {pair}"))
        || request.contains("refresh_token=reed");
    if !is_known {
        return with(
            "401 Unauthorized",
            "",
            r#"{"errors":[{"code":"DENIED","message":"nobody by that name"}]}"#,
        );
    }
    match how {
        Answers::Elsewhere => with(
            "302 Found",
            "location: https://elsewhere.example/token\r\n",
            "",
        ),
        Answers::Rubbish => with("200 OK", "", "tide"),
        Answers::Well | Answers::AnotherRepository => {
            // The scope stands in the query or in the form, encoded.
            let (_, scope) = request.split_once("scope=").unwrap_or_default();
            let scope = scope.split(['&', ' ', '\r']).next().unwrap_or_default();
            let scope = scope
                .replace("%3A", ":")
                .replace("%2F", "/")
                .replace("%2C", ",");
            let mut parts = scope.splitn(3, ':').skip(1);
            let mut name = parts.next().unwrap_or_default().to_owned();
            if how == Answers::AnotherRepository {
                name = "another/repository".to_owned();
            }
            let actions: Vec<String> = parts
                .next()
                .unwrap_or_default()
                .split(',')
                .map(|action| format!("\"{action}\""))
                .collect();
            let token = signer.token(&name, &actions.join(","));
            with(
                "200 OK",
                "",
                &format!(r#"{{"token":"{token}","expires_in":300}}"#),
            )
        }
    }
}

impl Signer {
    /// A JSON web token (RFC 7519) that lets these actions at a repository.
    fn token(&self, name: &str, actions: &str) -> String {
        let certificate = STANDARD.encode(&self.certificate);
        let head = format!(r#"{{"typ":"JWT","alg":"ES256","x5c":["{certificate}"]}}"#);
        let claims = format!(
            r#"{{"iss":"gull","sub":"gull","aud":"board","nbf":0,"iat":0,"exp":4000000000,"jti":"1","access":[{{"type":"repository","name":"{name}","actions":[{actions}]}}]}}"#
        );
        let encoded = |text: &str| URL_SAFE_NO_PAD.encode(text);
        let signed = format!("{}.{}", encoded(&head), encoded(&claims));
        let random = SystemRandom::new();
        let key =
            EcdsaKeyPair::from_pkcs8(&ECDSA_P256_SHA256_FIXED_SIGNING, &self.key, &random).unwrap();
        let signature = key.sign(&random, signed.as_bytes()).unwrap();
        format!("{signed}.{}", URL_SAFE_NO_PAD.encode(signature))
    }
}
