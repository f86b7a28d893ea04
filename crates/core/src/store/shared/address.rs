//! Where a shared store is, as the settings say it.

use std::path::PathBuf;

use crate::store::shared::ObjectServer;

/// The folder of the format below an address, as in a local store.
const FORMAT: &str = "1";

/// Where a shared store is.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum SharedAddress {
    /// A folder.
    Folder(PathBuf),
    /// A server that takes PUT, GET and HEAD; the address ends without a slash.
    Http(String),
    /// A bucket, and the folder in it: empty, or ending with a slash.
    S3 {
        /// The bucket's name.
        bucket: String,
        /// The folder.
        prefix: String,
    },
}

impl SharedAddress {
    /// Reads an address; none when it is none.
    #[must_use]
    pub fn parse(text: &str) -> Option<Self> {
        if text.contains(|c: char| c.is_whitespace() || c.is_control()) {
            return None;
        }
        if let Some(path) = text.strip_prefix("file://") {
            let is_fine = path.starts_with('/') && path.len() > 1;
            return is_fine.then(|| Self::Folder(PathBuf::from(path)));
        }
        if let Some(rest) = text.strip_prefix("s3://") {
            let (bucket, prefix) = rest.split_once('/').unwrap_or((rest, ""));
            let prefix = prefix.trim_matches('/');
            return (!bucket.is_empty()).then(|| Self::S3 {
                bucket: bucket.to_owned(),
                prefix: match prefix {
                    "" => String::new(),
                    prefix => format!("{prefix}/"),
                },
            });
        }
        let rest = text
            .strip_prefix("https://")
            .or_else(|| text.strip_prefix("http://"))?;
        let host = rest.split('/').next().unwrap_or_default();
        let host = host.rsplit('@').next().unwrap_or_default();
        let is_fine = !host.is_empty() && !text.contains(['?', '#']);
        is_fine.then(|| Self::Http(text.trim_end_matches('/').to_owned()))
    }

    /// Who answers there. `env` gives variables of the environment, in which credentials are.
    ///
    /// # Errors
    /// Why it can't be asked, in words.
    pub fn server(
        &self,
        env: &dyn Fn(&str) -> Option<String>,
    ) -> Result<Box<dyn ObjectServer>, String> {
        match self {
            #[cfg(feature = "shared-store")]
            Self::Folder(path) => {
                let server = super::directory::DirectoryServer::new(path.join(FORMAT));
                Ok(Box::new(server))
            }
            #[cfg(feature = "shared-store")]
            Self::Http(address) => {
                let server = super::webdav::WebDavServer::new(address, FORMAT, env)?;
                Ok(Box::new(server))
            }
            #[cfg(feature = "shared-store")]
            Self::S3 { bucket, prefix } => {
                let server = super::s3::S3Server::new(bucket, &format!("{prefix}{FORMAT}/"), env)?;
                Ok(Box::new(server))
            }
            #[cfg(not(feature = "shared-store"))]
            Self::Folder(_) | Self::Http(_) | Self::S3 { .. } => {
                let _ = (env, FORMAT);
                Err("this program was built without the feature `shared-store`".to_owned())
            }
        }
    }
}

/// An address as people may see it: without a name and a password in it.
#[must_use]
pub fn without_credentials(address: &str) -> String {
    let Some((kind, rest)) = address.split_once("://") else {
        return address.to_owned();
    };
    let end = rest.find('/').unwrap_or(rest.len());
    match rest[..end].rfind('@') {
        Some(at) => format!("{kind}://{}", &rest[at + 1..]),
        None => address.to_owned(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn addresses() {
        let http = |text: &str| Some(SharedAddress::Http(text.to_owned()));
        assert_eq!(
            SharedAddress::parse("https://mill/store/"),
            http("https://mill/store")
        );
        assert_eq!(
            SharedAddress::parse("http://a:b@mill:80"),
            http("http://a:b@mill:80")
        );
        assert_eq!(
            SharedAddress::parse("s3://lights/a/b/"),
            Some(SharedAddress::S3 {
                bucket: "lights".to_owned(),
                prefix: "a/b/".to_owned()
            })
        );
        assert_eq!(
            SharedAddress::parse("file:///srv/store"),
            Some(SharedAddress::Folder(PathBuf::from("/srv/store")))
        );
        for wrong in [
            "",
            "mill",
            "ftp://mill/x",
            "https://",
            "https:///x",
            "https://a:b@/x",
            "s3://",
            "s3:///x",
            "file://srv/x",
            "file:///",
            "https://mill/a b",
            "https://mill/?x=1",
        ] {
            assert_eq!(SharedAddress::parse(wrong), None, "{wrong}");
        }
        assert_eq!(
            without_credentials("https://a:b@c@mill/x@y"),
            "https://mill/x@y"
        );
        assert_eq!(without_credentials("s3://bucket/a"), "s3://bucket/a");
    }
}
