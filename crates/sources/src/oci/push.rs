//! Writing to a repository (OCI Distribution Specification 1.1, "Pushing").

use std::path::Path;

use ureq::http::{HeaderMap, Method};

use super::manifest::{ANY, Descriptor};
use super::repository::Repository;
use crate::address::Address;
use crate::transport::{
    Ask, Payload, Reply, Transport, TransportError, header_text, is_same_server,
};

/// How many bytes go with one request: what is lost where a connection breaks.
const CHUNK: u64 = 16 << 20;

/// Tells how many bytes have gone.
pub(crate) type Sent<'s> = &'s mut dyn FnMut(u64);

/// A repository that is written to.
pub(crate) struct Writer<'w> {
    pub(crate) transport: &'w Transport,
    pub(crate) repository: &'w Repository,
}

/// How an upload goes on after a request.
enum Next {
    /// There, with this many bytes that the registry has.
    At(Address, u64),
    /// From the beginning: the registry does not know the upload any more.
    Anew,
}

/// The failures of an upload since the last piece that went through.
struct Failures<'t> {
    transport: &'t Transport,
    in_a_row: u32,
}

impl Failures<'_> {
    /// Counts a failure and pauses, or gives it back if the upload cannot go on.
    fn count(&mut self, error: TransportError) -> Result<(), TransportError> {
        self.in_a_row += 1;
        if !may_go_on(&error) || self.in_a_row >= self.transport.patience().attempts {
            return Err(error);
        }
        self.transport.pause_after(self.in_a_row);
        Ok(())
    }
}

impl Writer<'_> {
    /// The size of a blob, where it is there.
    pub(crate) fn blob_size(&self, digest: &str) -> Result<Option<u64>, TransportError> {
        let address = self.repository.blob(digest);
        let found = found(
            self.transport
                .exchange_again(&address, &Ask::of(Method::HEAD)),
        )?;
        Ok(found.and_then(|reply| header_text(&reply.headers, "content-length")?.parse().ok()))
    }

    /// Has the registry take a blob over from another of its repositories; says whether it did.
    pub(crate) fn link(&self, digest: &str, from: &str) -> Result<bool, TransportError> {
        let address = self.repository.uploads(Some((digest, from)));
        let linked = self
            .transport
            .exchange_again(&address, &Ask::of(Method::POST));
        match linked {
            // An upload has begun in its place, which nobody goes on with.
            Ok(reply) => Ok(
                header_text(&reply.headers, "docker-content-digest").is_some()
                    || self.blob_size(digest)?.is_some(),
            ),
            // It may not be read there, or the registry links nothing.
            Err(TransportError::Status { status, .. }) if status < 500 => Ok(false),
            Err(TransportError::Refused { .. }) => Ok(false),
            Err(error) => Err(error),
        }
    }

    /// Sends a small blob, unless it is there.
    pub(crate) fn send_bytes(&self, bytes: &[u8], blob: &Descriptor) -> Result<(), TransportError> {
        if self.blob_size(&blob.digest)? == Some(blob.size) {
            return Ok(());
        }
        self.upload(Payload::Bytes(bytes), blob.size, &blob.digest, &mut |_| {})
    }

    /// Sends a file as a blob, in pieces. Where a connection breaks, what the registry has is not sent again.
    pub(crate) fn send_file(
        &self,
        file: &Path,
        size: u64,
        digest: &str,
        sent: Sent<'_>,
    ) -> Result<(), TransportError> {
        let whole = Payload::Part {
            file,
            from: 0,
            length: size,
        };
        self.upload(whole, size, digest, sent)
    }

    fn upload(
        &self,
        whole: Payload<'_>,
        size: u64,
        digest: &str,
        sent: Sent<'_>,
    ) -> Result<(), TransportError> {
        let begins = self.repository.uploads(None);
        let mut failures = Failures {
            transport: self.transport,
            in_a_row: 0,
        };
        'upload: loop {
            let begun = self
                .transport
                .exchange_again(&begins, &Ask::of(Method::POST))?;
            let mut at = location(&begun.headers, &begins)?;
            let mut there = 0;
            // What is small goes with the request that ends the upload.
            let rest = match size <= CHUNK {
                true => whole,
                false => Payload::Nothing,
            };
            while size > CHUNK && there < size {
                let error = match self.send_piece(&mut at, whole, there, size) {
                    Ok(more) => {
                        there = more;
                        failures.in_a_row = 0;
                        sent(there);
                        continue;
                    }
                    Err(error) => error,
                };
                failures.count(error)?;
                match self.state_of(&at)? {
                    Next::At(next, more) => (at, there) = (next, more.min(size)),
                    Next::Anew => continue 'upload,
                }
            }
            let closes = with_digest(&at, digest);
            let ask = Ask {
                payload: rest,
                ..Ask::of(Method::PUT).with("content-type", Some("application/octet-stream"))
            };
            match self.transport.exchange(&closes, &ask) {
                Ok(_) => {
                    sent(size);
                    return Ok(());
                }
                // It may have been taken before the answer was lost.
                Err(error) if may_go_on(&error) && self.blob_size(digest)? == Some(size) => {
                    return Ok(());
                }
                Err(error) => failures.count(error)?,
            }
        }
    }

    /// Sends the piece of an upload that begins at byte `there`. Returns the number of bytes that the registry has then.
    fn send_piece(
        &self,
        at: &mut Address,
        whole: Payload<'_>,
        there: u64,
        size: u64,
    ) -> Result<u64, TransportError> {
        let end = (there + CHUNK).min(size);
        let ask = Ask {
            payload: whole.part(there, end),
            ..Ask::of(Method::PATCH)
                .with("content-type", Some("application/octet-stream"))
                .with("content-range", Some(&format!("{there}-{}", end - 1)))
        };
        let reply = self.transport.exchange(at, &ask)?;
        *at = location(&reply.headers, at)?;
        // The number in its answer counts, not the number of bytes sent.
        match received(&reply.headers).unwrap_or(end) {
            more if more > there => Ok(more.min(size)),
            _ => Err(TransportError::not_taken(at)),
        }
    }

    /// How far an upload is that broke off.
    fn state_of(&self, at: &Address) -> Result<Next, TransportError> {
        match self.transport.exchange_again(at, &Ask::get()) {
            Ok(reply) => {
                let there = received(&reply.headers).unwrap_or(0);
                Ok(Next::At(location(&reply.headers, at)?, there))
            }
            Err(TransportError::Status { status, .. }) if status < 500 => Ok(Next::Anew),
            Err(error) => Err(error),
        }
    }

    /// Writes a manifest or index under a tag; what it names has to be there.
    pub(crate) fn put(
        &self,
        reference: &str,
        media_type: &str,
        bytes: &[u8],
    ) -> Result<(), TransportError> {
        let address = self.repository.manifest(reference);
        let ask = Ask {
            payload: Payload::Bytes(bytes),
            ..Ask::of(Method::PUT).with("content-type", Some(media_type))
        };
        self.transport.exchange_again(&address, &ask).map(drop)
    }

    /// The manifest of a tag, where there is one.
    pub(crate) fn manifest(&self, tag: &str) -> Result<Option<Vec<u8>>, TransportError> {
        let address = self.repository.manifest(tag);
        let ask = Ask::get().with("accept", Some(ANY));
        let found = found(self.transport.exchange_again(&address, &ask))?;
        Ok(found.map(|reply| reply.bytes))
    }

    /// All tags, in no order; none where the repository is not there yet.
    pub(crate) fn tags(&self) -> Result<Vec<String>, TransportError> {
        #[derive(serde::Deserialize)]
        struct Page {
            tags: Option<Vec<String>>,
        }
        const MOST_PAGES: usize = 10_000;
        let mut tags = Vec::new();
        let mut next = Some(self.repository.tags());
        for _ in 0..MOST_PAGES {
            let Some(address) = next else {
                break;
            };
            let Some(reply) = found(self.transport.exchange_again(&address, &Ask::get()))? else {
                break;
            };
            let page: Page = serde_json::from_slice(&reply.bytes)
                .map_err(|_| TransportError::no_list(&address))?;
            tags.extend(page.tags.unwrap_or_default());
            next = next_page(&reply.headers, &address);
        }
        Ok(tags)
    }
}

impl<'p> Payload<'p> {
    /// The bytes from one to another.
    fn part(self, from: u64, end: u64) -> Payload<'p> {
        match self {
            Payload::Nothing => Payload::Nothing,
            Payload::Bytes(bytes) => Payload::Bytes(&bytes[from as usize..end as usize]),
            Payload::Part { file, .. } => Payload::Part {
                file,
                from,
                length: end - from,
            },
        }
    }
}

/// Whether an upload may go on after this, or be begun anew.
fn may_go_on(error: &TransportError) -> bool {
    let is_of_upload = matches!(
        error,
        TransportError::Status {
            status: 400 | 404 | 416,
            ..
        }
    );
    error.is_passing() || is_of_upload
}

/// What is there, and nothing where it is not.
fn found(reply: Result<Reply, TransportError>) -> Result<Option<Reply>, TransportError> {
    match reply {
        Ok(reply) => Ok(Some(reply)),
        Err(TransportError::Status { status: 404, .. }) => Ok(None),
        Err(error) => Err(error),
    }
}

/// Where an upload goes on: nowhere that is not encrypted where it was.
fn location(headers: &HeaderMap, at: &Address) -> Result<Address, TransportError> {
    let next = header_text(headers, "location").and_then(|next| at.join_url(&next));
    let scheme = |address: &Address| match address {
        Address::Web(url) => url.scheme().to_owned(),
        Address::File(_) => String::new(),
    };
    match next {
        Some(next) if scheme(at) == "https" && scheme(&next) != "https" => {
            Err(TransportError::Unencrypted {
                address: at.clone(),
                to: next.to_string(),
            })
        }
        next => Ok(next.unwrap_or_else(|| at.clone())),
    }
}

/// The number of bytes in `Range: 0-499`; `0-0` is what a registry says of none.
fn received(headers: &HeaderMap) -> Option<u64> {
    let range = header_text(headers, "range")?;
    let range = range.strip_prefix("bytes=").unwrap_or(&range);
    let last: u64 = range.split_once('-')?.1.parse().ok()?;
    Some(if last == 0 { 0 } else { last + 1 })
}

fn with_digest(at: &Address, digest: &str) -> Address {
    let mut at = at.clone();
    if let Address::Web(url) = &mut at {
        url.query_pairs_mut().append_pair("digest", digest);
    }
    at
}

/// The next page of a list (RFC 8288, §3), on the same server.
fn next_page(headers: &HeaderMap, address: &Address) -> Option<Address> {
    let link = header_text(headers, "link")?;
    let (target, rest) = link.strip_prefix('<')?.split_once('>')?;
    let is_next = rest.replace('"', "").contains("rel=next");
    let next = address.join_url(target).filter(|_| is_next)?;
    match (&next, address) {
        (Address::Web(next_url), Address::Web(url)) => {
            is_same_server(next_url, url).then_some(next)
        }
        _ => None,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;
    use ureq::http::HeaderValue;

    fn headers(name: &'static str, value: &str) -> HeaderMap {
        HeaderMap::from_iter([(name.parse().unwrap(), HeaderValue::from_str(value).unwrap())])
    }

    #[rstest]
    #[case(
        "/v2/m/blobs/uploads/2?step=1",
        Some("https://gull.example/v2/m/blobs/uploads/2?step=1")
    )]
    #[case("https://store.example/2", Some("https://store.example/2"))]
    #[case("http://gull.example/v2/m/blobs/uploads/2", None)]
    fn an_upload_goes_on_over_encrypted_connections(
        #[case] next: &str,
        #[case] expected: Option<&str>,
    ) {
        let at = Address::read("https://gull.example/v2/m/blobs/uploads/").unwrap();
        let next = location(&headers("location", next), &at);
        assert_eq!(next.ok().map(|next| next.to_string()).as_deref(), expected);
    }

    #[rstest]
    #[case("0-0", Some(0))]
    #[case("0-499", Some(500))]
    #[case("bytes=0-499", Some(500))]
    #[case("tide", None)]
    fn a_registry_says_how_much_it_has(#[case] range: &str, #[case] expected: Option<u64>) {
        assert_eq!(received(&headers("range", range)), expected);
    }

    #[rstest]
    #[case(
        "</v2/m/tags/list?n=2&last=b>; rel=\"next\"",
        Some("https://gull.example/v2/m/tags/list?n=2&last=b")
    )]
    #[case("</v2/m/tags/list>; rel=\"last\"", None)]
    #[case("<https://dune.example/v2/m/tags/list>; rel=\"next\"", None)]
    fn a_list_goes_on_at_the_same_server(#[case] link: &str, #[case] expected: Option<&str>) {
        let address = Address::read("https://gull.example/v2/m/tags/list?n=2").unwrap();
        let next = next_page(&headers("link", link), &address);
        assert_eq!(next.map(|next| next.to_string()).as_deref(), expected);
    }
}
