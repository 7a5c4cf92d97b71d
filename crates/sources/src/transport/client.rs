//! One request: who asks is said to the server that is asked and to no other, wherever it sends on to, and a
//! registry that wants a token of its token service gets one.

use std::collections::HashMap;
use std::fs::File;
use std::io::{self, Read, Seek, SeekFrom};
use std::path::PathBuf;
use std::sync::{Arc, Mutex, OnceLock};
use std::time::{Duration, Instant};

use ureq::http::{Request, Response, StatusCode};
use ureq::tls::{Certificate, RootCerts, TlsConfig};
use ureq::{Agent, Body, Proxy, SendBody};
use url::Url;

use super::ask::{Ask, Payload, Who, header_text, is_same_server};
use super::error::{TransportError, not_given, unreachable};
use super::token::{Challenge, Token};
use crate::address::{Address, has_password, is_private, repository_of};
use crate::credentials::{Credential, Credentials, ServerHeader};
use crate::registries::{RegistryError, UserSettings};

/// How often a server may send on.
const MOST_REDIRECTS: usize = 8;

/// What came back.
pub(super) struct Answer {
    pub(super) response: Response<Body>,
    /// The file with the credential that was sent, where one was.
    pub(super) sent: Option<PathBuf>,
}

/// How patient the transport is.
#[derive(Clone, Copy, Debug)]
pub struct Patience {
    /// For a connection to stand.
    pub connect: Duration,
    /// For an answer to begin, and then for each next piece of it.
    pub stall: Duration,
    /// How often a request is made at the most.
    pub attempts: u32,
    /// The pause after the first failure; it doubles with each further one.
    pub pause: Duration,
}

impl Default for Patience {
    fn default() -> Self {
        Patience {
            connect: Duration::from_secs(10),
            stall: Duration::from_secs(30),
            attempts: 4,
            pause: Duration::from_millis(500),
        }
    }
}

/// What makes requests.
#[derive(Clone, Debug, Default)]
pub(super) struct Client {
    near: OnceLock<Agent>,
    far: OnceLock<Agent>,
    /// Addresses with a name and password, which others of the same server need as well.
    passwords: Arc<Mutex<Vec<Url>>>,
    /// Whose clients are configured with credentials.
    person: Arc<UserSettings>,
    credentials: Arc<OnceLock<Result<Credentials, Arc<RegistryError>>>>,
    /// What servers are told beside who asks.
    headers: Arc<OnceLock<Vec<ServerHeader>>>,
    /// Tokens of registries' token services, as long as they hold.
    tokens: Arc<Mutex<HashMap<String, Token>>>,
    pub(super) offline: bool,
    pub(super) patience: Patience,
}

impl Client {
    /// One that makes no connection until it is asked for something.
    pub(super) fn new(offline: bool, patience: Patience) -> Client {
        Client {
            near: OnceLock::new(),
            far: OnceLock::new(),
            passwords: Arc::default(),
            person: Arc::default(),
            credentials: Arc::default(),
            headers: Arc::default(),
            tokens: Arc::default(),
            offline,
            patience,
        }
    }

    /// The same, which asks as this person.
    pub(super) fn of_person(self, person: UserSettings) -> Client {
        Client {
            person: Arc::new(person),
            credentials: Arc::default(),
            tokens: Arc::default(),
            ..self
        }
    }

    /// The credential for an address that has no name and password of its own.
    fn credential(&self, url: &Url) -> Result<Option<Credential>, TransportError> {
        if self.person.home.as_os_str().is_empty() {
            return Ok(None);
        }
        let read = || Credentials::read(&self.person).map_err(Arc::new);
        let found = match self.credentials.get_or_init(read) {
            Ok(credentials) => credentials.of(url).map_err(Arc::new),
            Err(error) => Err(error.clone()),
        };
        found.map_err(TransportError::Settings)
    }

    /// Keeps the name and password of an address that has some, for whatever else is asked of the same
    /// server: what is written down of addresses is without.
    pub(super) fn learn(&self, address: &Address) {
        if let Address::Web(url) = address
            && has_password(url)
        {
            let mut known = self.passwords.lock().expect("nothing panics in here");
            if !known.contains(url) {
                known.push(url.clone());
            }
        }
    }

    /// The address with the name and password that its server needs, where they are known.
    fn with_password(&self, url: &Url) -> Url {
        let mut url = url.clone();
        let known = self.passwords.lock().expect("nothing panics in here");
        let same = known.iter().find(|known| known.origin() == url.origin());
        if let Some(same) = same.filter(|_| !has_password(&url)) {
            url.set_username(same.username()).unwrap_or_default();
            url.set_password(same.password()).unwrap_or_default();
        }
        url
    }

    /// From now on servers are told these headers.
    pub(super) fn tell_servers(&self, headers: Vec<ServerHeader>) {
        // Whoever was first read the same settings.
        self.headers.set(headers).unwrap_or_default();
    }

    /// Makes a request. What answers is neither a redirect nor the wish for a token.
    pub(super) fn ask(
        &self,
        address: &Address,
        url: &Url,
        ask: &Ask<'_>,
    ) -> Result<Answer, TransportError> {
        self.learn(address);
        let mut at = url.clone();
        let mut who = self.who(address, &at, ask)?;
        let mut redirects = 0;
        let mut has_new_token = false;
        loop {
            let response = self.once(address, &at, ask, &who)?;
            if let Some(next) = redirect(&response, &at) {
                redirects += 1;
                let next = next.filter(|_| redirects <= MOST_REDIRECTS);
                at = next.ok_or_else(|| not_given(address, response, None))?;
                // What another server is told of who asks is nothing.
                who = match is_same_server(&at, url) {
                    true => self.who(address, &at, ask)?,
                    false => Who::default(),
                };
                continue;
            }
            if response.status() == StatusCode::UNAUTHORIZED
                && !has_new_token
                && is_same_server(&at, url)
                && let Some(repository) = repository_of(&at)
                && let Some(challenge) = Challenge::read(response.headers())
            {
                has_new_token = true;
                let token = self.new_token(&at, &challenge, &who)?;
                who.token = Some(token.header.clone());
                let key = token_key(&at, repository, ask);
                let mut known = self.tokens.lock().expect("nothing panics in here");
                known.insert(key, token);
                continue;
            }
            let sent = who.place();
            return Ok(Answer { response, sent });
        }
    }

    /// What a server is told of who asks.
    fn who(&self, address: &Address, url: &Url, ask: &Ask<'_>) -> Result<Who, TransportError> {
        let url = self.with_password(url);
        if !is_private(&url) {
            return match has_password(&url) {
                true => Err(TransportError::Unprotected {
                    address: address.clone(),
                }),
                false => Ok(Who::default()),
            };
        }
        let credential = match Credential::of_address(&url) {
            Some(own) => Some(own),
            None => self.credential(&url)?,
        };
        let token = repository_of(&url).and_then(|repository| {
            let known = self.tokens.lock().expect("nothing panics in here");
            let token = known.get(&token_key(&url, repository, ask))?;
            (Instant::now() < token.ends).then(|| token.header.clone())
        });
        let headers = self.headers.get().into_iter().flatten();
        let headers = headers.filter_map(|header| header.for_address(&url));
        Ok(Who {
            credential,
            token,
            headers: headers
                .map(|(name, value)| (name.clone(), value.clone()))
                .collect(),
        })
    }

    fn agent(&self, address: &Address) -> Result<&Agent, TransportError> {
        if self.offline {
            return Err(TransportError::Offline(address.clone()));
        }
        // Reading the system's certificates takes milliseconds that this machine's own servers need
        // not cost.
        let with_roots = || TlsConfig::builder().root_certs(system_roots()).build();
        Ok(match address {
            _ if address.is_loopback() => self
                .near
                .get_or_init(|| self.new_agent(TlsConfig::default())),
            _ => self.far.get_or_init(|| self.new_agent(with_roots())),
        })
    }

    fn new_agent(&self, tls: TlsConfig) -> Agent {
        Agent::config_builder()
            .http_status_as_error(false)
            // Where it is sent on to decides what is said there of who asks.
            .max_redirects(0)
            .input_buffer_size(128 << 10)
            .timeout_connect(Some(self.patience.connect))
            .timeout_recv_response(Some(self.patience.stall))
            .timeout_per_read(Some(self.patience.stall))
            .proxy(Proxy::try_from_env())
            .user_agent(concat!("vivid-shelf/", env!("CARGO_PKG_VERSION")))
            .tls_config(tls)
            .build()
            .new_agent()
    }

    /// Asks the token service that a registry names.
    fn new_token(
        &self,
        registry: &Url,
        challenge: &Challenge,
        who: &Who,
    ) -> Result<Token, TransportError> {
        let (realm, ask) = challenge.question(registry, who)?;
        let address = Address::Web(realm.clone());
        let who = Who::of(who.credential.clone());
        let response = self.once(&address, &realm, &ask.borrowed(), &who)?;
        challenge.token(registry, &address, response, who.place())
    }

    /// Makes a request at just this place.
    pub(super) fn once(
        &self,
        address: &Address,
        at: &Url,
        ask: &Ask<'_>,
        who: &Who,
    ) -> Result<Response<Body>, TransportError> {
        let place = Address::Web(at.clone());
        let asked_encrypted = matches!(address, Address::Web(url) if url.scheme() == "https");
        if asked_encrypted && at.scheme() != "https" {
            return Err(TransportError::Unencrypted {
                address: address.clone(),
                to: place.to_string(),
            });
        }
        let mut request = Request::builder()
            .method(ask.method.clone())
            .uri(place.to_string());
        for (name, value) in &ask.headers {
            request = request.header(*name, value);
        }
        if let Some(header) = who.header() {
            request = request.header("authorization", header);
        }
        for (name, value) in &who.headers {
            request = request.header(name, value);
        }
        let (length, mut reader): (u64, Box<dyn Read + '_>) = match ask.payload {
            Payload::Nothing => (0, Box::new(io::empty())),
            Payload::Bytes(bytes) => (bytes.len() as u64, Box::new(bytes)),
            Payload::Part { file, from, length } => {
                let open = || -> io::Result<_> {
                    let mut opened = File::open(file)?;
                    opened.seek(SeekFrom::Start(from))?;
                    Ok(opened.take(length))
                };
                let part = open().map_err(|source| TransportError::File {
                    address: Address::File(file.to_owned()),
                    source,
                })?;
                (length, Box::new(part))
            }
        };
        let failed = |error| {
            let error = unreachable(address, &place, error);
            tracing::debug!(method = %ask.method, address = %place, %error, "request failed");
            error
        };
        let agent = self.agent(&place)?;
        let answer = match ask.only_reads() {
            true => agent.run(request.body(()).map_err(|error| failed(error.into()))?),
            false => {
                let request = request
                    .header("content-length", length.to_string())
                    .body(SendBody::from_reader(&mut reader));
                agent.run(request.map_err(|error| failed(error.into()))?)
            }
        };
        let answer = answer.map_err(failed)?;
        let status = answer.status().as_u16();
        tracing::debug!(method = %ask.method, address = %place, status, "request");
        Ok(answer)
    }
}

fn system_roots() -> RootCerts {
    let found = rustls_native_certs::load_native_certs();
    let certificates: Vec<Certificate<'static>> = found
        .certs
        .iter()
        .map(|certificate| Certificate::from_der(certificate).to_owned())
        .collect();
    RootCerts::new_with_certs(&certificates)
}

/// Where an answer sends on to: nothing where it does not, and nothing inside where that is no place.
fn redirect(response: &Response<Body>, at: &Url) -> Option<Option<Url>> {
    let sends_on = matches!(response.status().as_u16(), 301 | 302 | 303 | 307 | 308);
    sends_on.then(|| {
        let location = header_text(response.headers(), "location")?;
        let next = at.join(&location).ok()?;
        matches!(next.scheme(), "http" | "https").then_some(next)
    })
}

/// What tokens are kept by: they are for a repository, and for reading alone or not.
fn token_key(url: &Url, repository: &str, ask: &Ask<'_>) -> String {
    let server = url.origin().ascii_serialization();
    format!("{server}/{repository} {}", ask.only_reads())
}
