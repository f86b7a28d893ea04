//! What is put into a shared store.

use crate::store::key::StoreKey;
use crate::store::object::StoredResult;
use crate::store::shared::SharedError;
use crate::store::shared::fetch::Exchange;

/// Something that the local store has, and the shared one is to have.
pub enum Upload {
    /// A result.
    Result {
        /// The declared key.
        declared: StoreKey,
        /// The full one.
        key: StoreKey,
        /// The result.
        result: Box<StoredResult>,
    },
    /// What is known under a declared key.
    Lists(StoreKey),
}

impl Upload {
    /// Puts it there.
    pub fn carry_out(&self, exchange: &Exchange<'_>) -> Result<(), SharedError> {
        match self {
            Self::Result {
                declared,
                key,
                result,
            } => exchange.put_all(*declared, *key, result),
            Self::Lists(declared) => exchange.put_lists(*declared),
        }
    }
}
