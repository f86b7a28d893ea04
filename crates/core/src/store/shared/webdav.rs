//! A server that takes `PUT`, `GET` and `HEAD`, as WebDAV servers do (RFC 4918); one that wants folders to be made
//! first (409) is asked to with `MKCOL`.
//!
//! Credentials are a user and a password in the address, or in `HANDLOOM_STORE_USER` and `HANDLOOM_STORE_PASSWORD`
//! (RFC 7617), or a token in `HANDLOOM_STORE_TOKEN` (RFC 6750).

use std::io::Read;

use base64::Engine;
use base64::engine::general_purpose::STANDARD;
use ureq::Agent;
use ureq::SendBody;
use ureq::http::Method;
use ureq::http::Request;
use ureq::http::Response;

use crate::store::shared::Body;
use crate::store::shared::ObjectServer;
use crate::store::shared::SharedError;
use crate::store::shared::client::agent;
use crate::store::shared::client::failed;
use crate::store::shared::client::is_found;

/// The server.
pub struct WebDavServer {
    agent: Agent,
    /// Where the objects are, ending with a slash.
    base: String,
    authorization: Option<String>,
}

impl WebDavServer {
    /// The server at an address, with objects below `format`.
    ///
    /// # Errors
    /// When the credentials can't be sent.
    pub fn new(
        address: &str,
        format: &str,
        env: &dyn Fn(&str) -> Option<String>,
    ) -> Result<Self, String> {
        let (kind, rest) = address.split_once("://").unwrap_or(("http", address));
        let end = rest.find('/').unwrap_or(rest.len());
        let (host, path) = rest.split_at(end);
        let (login, host) = match host.rsplit_once('@') {
            Some((login, host)) => (Some(decoded(login)), host),
            None => (None, host),
        };
        let named = || {
            let user = env("HANDLOOM_STORE_USER")?;
            let password = env("HANDLOOM_STORE_PASSWORD").unwrap_or_default();
            Some(format!("{user}:{password}"))
        };
        let token = env("HANDLOOM_STORE_TOKEN").filter(|token| !token.is_empty());
        let authorization = match (login.or_else(named), token) {
            (Some(login), _) => Some(format!("Basic {}", STANDARD.encode(login))),
            (None, Some(token)) => Some(format!("Bearer {token}")),
            (None, None) => None,
        };
        let is_sendable = |text: &String| text.bytes().all(|byte| (0x20..0x7f).contains(&byte));
        if !authorization.iter().all(is_sendable) {
            return Err(
                "the token in `HANDLOOM_STORE_TOKEN` has characters that can't be sent".to_owned(),
            );
        }
        Ok(Self {
            agent: agent(kind == "https"),
            base: format!("{kind}://{host}{path}/{format}/"),
            authorization,
        })
    }

    fn request(&self, method: &[u8], name: &str) -> ureq::http::request::Builder {
        let method = Method::from_bytes(method).unwrap_or(Method::GET);
        let request = Request::builder()
            .method(method)
            .uri(format!("{}{name}", self.base));
        match &self.authorization {
            Some(authorization) => request.header("authorization", authorization),
            None => request,
        }
    }

    /// The answer to a request without a body.
    fn ask(&self, method: &[u8], name: &str) -> Result<Response<ureq::Body>, SharedError> {
        let request = self.request(method, name).body(());
        let request = request.map_err(|error| failed(&error.into()))?;
        self.agent.run(request).map_err(|error| failed(&error))
    }

    /// Makes the folders of an object, from the outermost; one that is there already is no mistake.
    fn make_folders(&self, name: &str) -> Result<(), SharedError> {
        let ends = name.match_indices('/').map(|(at, _)| at + 1);
        for folder in std::iter::once(0).chain(ends) {
            self.ask(b"MKCOL", &name[..folder])?;
        }
        Ok(())
    }

    fn put_bytes(&self, name: &str, body: SendBody<'_>, length: u64) -> Result<u16, SharedError> {
        let request = self.request(b"PUT", name).header("content-length", length);
        let request = request.body(body).map_err(|error| failed(&error.into()))?;
        let answer = self.agent.run(request).map_err(|error| failed(&error))?;
        Ok(answer.status().as_u16())
    }
}

/// A name and a password as an address has them: with `%` and two digits for what may not stand there.
fn decoded(login: &str) -> String {
    let mut bytes = Vec::new();
    let mut rest = login.as_bytes();
    while let Some((&first, behind)) = rest.split_first() {
        let digits = behind
            .get(..2)
            .and_then(|digits| std::str::from_utf8(digits).ok());
        let byte = digits.and_then(|digits| u8::from_str_radix(digits, 16).ok());
        match (first, byte) {
            (b'%', Some(byte)) => {
                bytes.push(byte);
                rest = &behind[2..];
            }
            _ => {
                bytes.push(first);
                rest = behind;
            }
        }
    }
    String::from_utf8_lossy(&bytes).into_owned()
}

impl ObjectServer for WebDavServer {
    fn get(&self, name: &str) -> Result<Option<Box<dyn Read + Send>>, SharedError> {
        let answer = self.ask(b"GET", name)?;
        Ok(is_found(&answer)?
            .then(|| -> Box<dyn Read + Send> { Box::new(answer.into_body().into_reader()) }))
    }

    fn has(&self, name: &str) -> Result<bool, SharedError> {
        let answer = self.ask(b"HEAD", name)?;
        is_found(&answer)
    }

    fn put(&self, name: &str, body: Body<'_>) -> Result<(), SharedError> {
        // Small enough to be sent again when folders have to be made first; what is larger has them by then.
        let mut bytes = Vec::new();
        let status = if body.length <= 64 * 1024 {
            body.reader.read_to_end(&mut bytes)?;
            match self.put_bytes(name, SendBody::from_reader(&mut &*bytes), body.length)? {
                // The protocol says 409; nginx says 500.
                404 | 409 | 500 => {
                    self.make_folders(name)?;
                    self.put_bytes(name, SendBody::from_reader(&mut &*bytes), body.length)?
                }
                status => status,
            }
        } else {
            let folder = name.rfind('/').map_or("", |at| &name[..=at]);
            if !self.has(folder).unwrap_or(false) {
                self.make_folders(name)?;
            }
            self.put_bytes(name, SendBody::from_reader(body.reader), body.length)?
        };
        match status {
            200..=299 => Ok(()),
            401 | 403 => Err(SharedError::Status(
                status,
                ": nothing may be put there with the credentials in the environment",
            )),
            status => Err(SharedError::Status(status, "")),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::decoded;

    #[test]
    fn a_login_is_decoded() {
        assert_eq!(decoded("keeper:a%40b%2F"), "keeper:a@b/");
        assert_eq!(decoded("50%:x%zz"), "50%:x%zz");
    }
}
