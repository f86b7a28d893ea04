//! A bucket of a server that speaks S3.
//!
//! Credentials and the place are in the environment, under the names that this protocol's tools have in common:
//! `AWS_ACCESS_KEY_ID`, `AWS_SECRET_ACCESS_KEY`, `AWS_SESSION_TOKEN`, `AWS_REGION` or `AWS_DEFAULT_REGION`,
//! `AWS_ENDPOINT_URL_S3` or `AWS_ENDPOINT_URL`. Without a key, requests are not signed.

use std::io::Read;
use std::time::Duration;

use rusty_s3::Bucket;
use rusty_s3::Credentials;
use rusty_s3::S3Action;
use rusty_s3::UrlStyle;
use ureq::Agent;
use ureq::SendBody;

use crate::store::shared::Body;
use crate::store::shared::ObjectServer;
use crate::store::shared::SharedError;
use crate::store::shared::client::agent;
use crate::store::shared::client::failed;
use crate::store::shared::client::is_found;

/// So long a signed request is good for.
const SIGNED: Duration = Duration::from_secs(900);

/// The bucket.
pub struct S3Server {
    agent: Agent,
    bucket: Bucket,
    credentials: Option<Credentials>,
    /// What stands in front of names, ending with a slash.
    prefix: String,
}

impl S3Server {
    /// A bucket, with objects below a prefix.
    ///
    /// # Errors
    /// When the environment names no server that can be.
    pub fn new(
        bucket: &str,
        prefix: &str,
        env: &dyn Fn(&str) -> Option<String>,
    ) -> Result<Self, String> {
        let set = |names: [&str; 2]| {
            names
                .into_iter()
                .find_map(|name| env(name).filter(|set| !set.is_empty()))
        };
        let region =
            set(["AWS_REGION", "AWS_DEFAULT_REGION"]).unwrap_or_else(|| "us-east-1".to_owned());
        let named = set(["AWS_ENDPOINT_URL_S3", "AWS_ENDPOINT_URL"]);
        let style = if named.is_some() {
            UrlStyle::Path
        } else {
            UrlStyle::VirtualHost
        };
        let endpoint = named.unwrap_or_else(|| format!("https://s3.{region}.amazonaws.com"));
        let url = endpoint
            .parse()
            .map_err(|_| "the address of the S3 server in the environment is none".to_owned())?;
        let key = set(["AWS_ACCESS_KEY_ID"; 2]).zip(set(["AWS_SECRET_ACCESS_KEY"; 2]));
        let credentials = key.map(|(key, secret)| match set(["AWS_SESSION_TOKEN"; 2]) {
            Some(token) => Credentials::new_with_token(key, secret, token),
            None => Credentials::new(key, secret),
        });
        let bucket = Bucket::new(url, style, bucket.to_owned(), region);
        Ok(Self {
            agent: agent(endpoint.starts_with("https")),
            bucket: bucket.map_err(|error| error.to_string())?,
            credentials,
            prefix: prefix.to_owned(),
        })
    }

    fn name(&self, name: &str) -> String {
        format!("{}{name}", self.prefix)
    }
}

impl ObjectServer for S3Server {
    fn get(&self, name: &str) -> Result<Option<Box<dyn Read + Send>>, SharedError> {
        let name = self.name(name);
        let url = self
            .bucket
            .get_object(self.credentials.as_ref(), &name)
            .sign(SIGNED);
        let answer = self
            .agent
            .get(url.as_str())
            .call()
            .map_err(|error| failed(&error))?;
        Ok(is_found(&answer)?
            .then(|| -> Box<dyn Read + Send> { Box::new(answer.into_body().into_reader()) }))
    }

    fn has(&self, name: &str) -> Result<bool, SharedError> {
        let name = self.name(name);
        let url = self
            .bucket
            .head_object(self.credentials.as_ref(), &name)
            .sign(SIGNED);
        let answer = self
            .agent
            .head(url.as_str())
            .call()
            .map_err(|error| failed(&error))?;
        is_found(&answer)
    }

    fn put(&self, name: &str, body: Body<'_>) -> Result<(), SharedError> {
        let name = self.name(name);
        let url = self
            .bucket
            .put_object(self.credentials.as_ref(), &name)
            .sign(SIGNED);
        let request = self
            .agent
            .put(url.as_str())
            .header("content-length", body.length.to_string());
        let answer = request.send(SendBody::from_reader(body.reader));
        match is_found(&answer.map_err(|error| failed(&error))?)? {
            true => Ok(()),
            false => Err(SharedError::Status(404, ": there is no such bucket")),
        }
    }
}
