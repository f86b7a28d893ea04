//! What the servers that are reached over the network have in common.

use std::sync::Arc;
use std::time::Duration;

use ureq::Agent;
use ureq::config::Config;
use ureq::http::Response;
use ureq::tls::Certificate;
use ureq::tls::RootCerts;
use ureq::tls::TlsConfig;

use crate::store::shared::SharedError;

/// So long may each part of a request take until the first byte of an answer comes.
const ANSWER: Duration = Duration::from_secs(1);
/// So long may a body take; that nothing comes for a second ends it sooner, elsewhere.
const BODY: Duration = Duration::from_secs(3600);

/// Makes requests; over TLS it trusts whom the system trusts.
pub fn agent(is_tls: bool) -> Agent {
    let mut tls = TlsConfig::builder();
    if is_tls {
        let roots = rustls_native_certs::load_native_certs().certs;
        let roots = roots
            .iter()
            .map(|root| Certificate::from_der(root).to_owned());
        let provider = Arc::new(rustls::crypto::ring::default_provider());
        tls = tls
            .root_certs(RootCerts::Specific(Arc::new(roots.collect())))
            .unversioned_rustls_crypto_provider(provider);
    }
    let config = Config::builder()
        .tls_config(tls.build())
        .http_status_as_error(false)
        .allow_non_standard_methods(true)
        .max_idle_connections_per_host(16)
        .timeout_resolve(Some(ANSWER))
        .timeout_connect(Some(ANSWER))
        .timeout_send_request(Some(ANSWER))
        .timeout_recv_response(Some(ANSWER))
        .timeout_send_body(Some(BODY))
        .timeout_recv_body(Some(BODY))
        .user_agent(concat!("handloom/", env!("CARGO_PKG_VERSION")));
    config.build().new_agent()
}

/// What went wrong, without the address: that may hold credentials.
pub fn failed(error: &ureq::Error) -> SharedError {
    SharedError::Unreachable(match error {
        ureq::Error::Timeout(_) => "it does not answer within a second".to_owned(),
        ureq::Error::HostNotFound => "there is no such host".to_owned(),
        ureq::Error::ConnectionFailed => "it can't be connected to".to_owned(),
        ureq::Error::Io(error) => error.to_string(),
        ureq::Error::Tls(why) => (*why).to_owned(),
        ureq::Error::Rustls(error) => error.to_string(),
        ureq::Error::BadUri(_) => "that is no address".to_owned(),
        _ => "what it answers can't be understood".to_owned(),
    })
}

/// Whether a status says yes; none where there is no such object.
pub fn is_found<B>(answer: &Response<B>) -> Result<bool, SharedError> {
    match answer.status().as_u16() {
        200..=299 => Ok(true),
        404 | 410 => Ok(false),
        status @ (401 | 403) => Err(SharedError::Status(
            status,
            ": the credentials in the environment are wrong, or not enough",
        )),
        status => Err(SharedError::Status(status, "")),
    }
}
