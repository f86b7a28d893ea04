//! What was asked for when a project was kept.

use serde::Deserialize;
use serde::Serialize;

use crate::graph::BuildRequest;

/// What was asked for, as far as it decides which steps are reached.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct CachedRequest {
    names: Vec<String>,
    folder: String,
}

impl CachedRequest {
    pub fn of(request: &BuildRequest) -> Self {
        Self {
            names: request.names.clone(),
            folder: request.folder.clone(),
        }
    }
}
