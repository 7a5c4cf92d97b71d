//! Tokens for registries of containers, from the token service that a registry names (the token authentication
//! of the `distribution` project).

use std::io::Read;
use std::path::PathBuf;
use std::time::{Duration, Instant};

use serde::Deserialize;
use ureq::Body;
use ureq::http::{HeaderMap, HeaderValue, Method, Response, StatusCode};
use url::Url;
use url::form_urlencoded::Serializer;

use super::ask::{Ask, Payload, Who, header_text};
use super::error::{TransportError, not_given};
use crate::address::{Address, is_private, shown};
use crate::credentials::Credential;

/// How long a token holds whose service does not say it.
const USUAL_SECONDS: u64 = 60;

/// The longest that a token counts.
const LONGEST_SECONDS: u64 = 24 * 3600;

/// The most bytes of a token service's answer.
const LARGEST_ANSWER: u64 = 1 << 20;

/// What a registry asks for (RFC 6750, §3).
#[derive(Debug, PartialEq, Eq)]
pub(super) struct Challenge {
    realm: String,
    service: Option<String>,
    scope: Option<String>,
}

/// A token, and until when it holds.
pub(crate) struct Token {
    pub(super) header: HeaderValue,
    pub(super) ends: Instant,
}

impl std::fmt::Debug for Token {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("a token")
    }
}

impl Challenge {
    /// The challenge of an answer, where it has one for a token service.
    pub(super) fn read(headers: &HeaderMap) -> Option<Challenge> {
        let all = headers.get_all("www-authenticate").into_iter();
        let mut texts = all.filter_map(|value| value.to_str().ok());
        texts.find_map(Challenge::parse)
    }

    fn parse(text: &str) -> Option<Challenge> {
        let (scheme, rest) = text.trim().split_once(' ')?;
        if !scheme.eq_ignore_ascii_case("bearer") {
            return None;
        }
        let mut challenge = Challenge {
            realm: String::new(),
            service: None,
            scope: None,
        };
        let mut rest = rest;
        while let Some((name, behind)) = rest.split_once('=') {
            let (value, after) = value_of(behind);
            match name.trim_matches([' ', ',']).to_ascii_lowercase().as_str() {
                "realm" => challenge.realm = value,
                "service" => challenge.service = Some(value),
                "scope" => challenge.scope = Some(value),
                _ => {}
            }
            rest = after;
        }
        (!challenge.realm.is_empty()).then_some(challenge)
    }
}

/// A value, which may be quoted, and what follows it (RFC 9110, §5.6.4).
fn value_of(text: &str) -> (String, &str) {
    let Some(quoted) = text.strip_prefix('"') else {
        let end = text.find(',').unwrap_or(text.len());
        return (text[..end].trim().to_owned(), &text[end..]);
    };
    let mut value = String::new();
    let mut letters = quoted.char_indices();
    while let Some((at, letter)) = letters.next() {
        match letter {
            '"' => return (value, &quoted[at + 1..]),
            '\\' => value.extend(letters.next().map(|(_, escaped)| escaped)),
            letter => value.push(letter),
        }
    }
    (value, "")
}

/// What a token service answers.
#[derive(Deserialize)]
struct Given {
    token: Option<String>,
    access_token: Option<String>,
    expires_in: Option<u64>,
}

/// What a token service is asked.
pub(super) struct TokenAsk {
    /// The form that is sent, where there is one.
    form: Option<String>,
}

impl TokenAsk {
    /// The request.
    pub(super) fn borrowed(&self) -> Ask<'_> {
        match &self.form {
            None => Ask::of(Method::GET),
            Some(form) => Ask {
                payload: Payload::Bytes(form.as_bytes()),
                ..Ask::of(Method::POST)
                    .with("content-type", Some("application/x-www-form-urlencoded"))
            },
        }
    }
}

impl Challenge {
    /// What the service is asked, and where. It is the registry that says which service that is, so what is for
    /// the registry goes there; never over a connection that others can read along.
    pub(super) fn question(
        &self,
        registry: &Url,
        who: &Who,
    ) -> Result<(Url, TokenAsk), TransportError> {
        let realm = Url::parse(&self.realm);
        let mut realm = realm.map_err(|_| self.failed(registry, "that is no address"))?;
        let stays_here = Address::Web(registry.clone()).is_loopback();
        let is_here = Address::Web(realm.clone()).is_loopback();
        if !is_private(&realm) || (is_here && !stays_here) {
            return Err(self.failed(registry, "the way there is not encrypted"));
        }
        let asked = [("service", &self.service), ("scope", &self.scope)];
        let asked = asked
            .iter()
            .filter_map(|(name, value)| Some((*name, value.as_deref()?)));
        let identity = who.credential.as_ref().and_then(Credential::identity_token);
        let form = identity.map(|token| {
            let mut form = Serializer::new(String::new());
            form.extend_pairs(asked.clone());
            form.append_pair("grant_type", "refresh_token");
            form.append_pair("client_id", "vivid-shelf");
            form.append_pair("refresh_token", token);
            form.finish()
        });
        if form.is_none() {
            realm.query_pairs_mut().extend_pairs(asked);
        }
        Ok((realm, TokenAsk { form }))
    }

    /// The token in the answer of the service at `realm`, which was asked with what the file `sent` has.
    pub(super) fn token(
        &self,
        registry: &Url,
        realm: &Address,
        response: Response<Body>,
        sent: Option<PathBuf>,
    ) -> Result<Token, TransportError> {
        let failed = |problem: &str| self.failed(registry, problem);
        match response.status() {
            StatusCode::OK => {}
            // A password would go along.
            status if status.is_redirection() => {
                let place = header_text(response.headers(), "location").unwrap_or_default();
                return Err(failed(&format!("it sends on to {}", shown(&place))));
            }
            _ => return Err(not_given(realm, response, sent)),
        }
        let mut bytes = Vec::new();
        let body = response.into_body().into_reader();
        let read = body.take(LARGEST_ANSWER).read_to_end(&mut bytes);
        read.map_err(|source| TransportError::BrokenOff {
            address: realm.clone(),
            source,
        })?;
        let given: Option<Given> = serde_json::from_slice(&bytes).ok();
        let tokens = given
            .iter()
            .flat_map(|given| [&given.token, &given.access_token]);
        let token = tokens.flatten().find(|token| !token.is_empty());
        let header = token.and_then(|token| HeaderValue::try_from(format!("Bearer {token}")).ok());
        let mut header = header.ok_or_else(|| failed("its answer has none"))?;
        header.set_sensitive(true);
        let seconds = given.and_then(|given| given.expires_in);
        let seconds = seconds.unwrap_or(USUAL_SECONDS).min(LONGEST_SECONDS);
        // A little is left for the way.
        let ends = Instant::now() + Duration::from_secs(seconds.saturating_sub(5));
        Ok(Token { header, ends })
    }

    fn failed(&self, registry: &Url, problem: &str) -> TransportError {
        TransportError::TokenService {
            address: Address::Web(registry.clone()),
            service: shown(&self.realm),
            problem: problem.to_owned(),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    fn challenge(realm: &str, service: Option<&str>, scope: Option<&str>) -> Option<Challenge> {
        Some(Challenge {
            realm: realm.to_owned(),
            service: service.map(str::to_owned),
            scope: scope.map(str::to_owned),
        })
    }

    #[rstest]
    #[case(
        r#"Bearer realm="https://t.example/token",service="board",scope="repository:m:pull,push""#,
        challenge(
            "https://t.example/token",
            Some("board"),
            Some("repository:m:pull,push")
        )
    )]
    #[case(
        r#"bearer scope="a \"b\"", realm=https://t.example"#,
        challenge("https://t.example", None, Some("a \"b\""))
    )]
    #[case(
        r#"Bearer realm="https://t.example"#,
        challenge("https://t.example", None, None)
    )]
    #[case(r#"Bearer error="invalid_token""#, None)]
    #[case(r#"Basic realm="board""#, None)]
    #[case("Bearer", None)]
    fn a_challenge_names_its_service(#[case] header: &str, #[case] expected: Option<Challenge>) {
        assert_eq!(Challenge::parse(header), expected);
    }
}
