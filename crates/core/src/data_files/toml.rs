//! TOML 1.1, read so that floating-point numbers stay as they are written.

use std::sync::Arc;

use toml::de::DeTable;
use toml::de::DeValue;

use crate::data_files::answer::DataError;
use crate::data_files::node::DataNode;

pub fn read(name: &str, text: &str) -> Result<DataNode, DataError> {
    let table = DeTable::parse(text).map_err(|error| {
        let at = error.span().map_or(0, |span| span.start.min(text.len()));
        let line = text.as_bytes()[..at]
            .iter()
            .filter(|&&b| b == b'\n')
            .count()
            + 1;
        let said = error.message().lines().next().unwrap_or_default();
        DataError::new(
            format!("`{name}` line {line}: {said}"),
            "the file is not as TOML has it",
        )
    })?;
    Ok(object(table.get_ref()))
}

fn object(table: &DeTable<'_>) -> DataNode {
    let entries = table.iter();
    let entries = entries.map(|(key, value)| {
        let node = Arc::new(node(value.get_ref()));
        (key.get_ref().to_string(), node)
    });
    DataNode::Object(entries.collect())
}

/// The library refuses what is nested too deep.
fn node(value: &DeValue<'_>) -> DataNode {
    match value {
        DeValue::String(text) => DataNode::Scalar(text.to_string()),
        DeValue::Integer(number) => {
            let text = number.as_str();
            let other = match number.radix() {
                10 => None,
                radix => i64::from_str_radix(text, radix).ok(),
            };
            DataNode::Scalar(other.map_or_else(|| text.to_owned(), |number| number.to_string()))
        }
        DeValue::Float(number) => DataNode::Scalar(number.as_str().to_owned()),
        DeValue::Boolean(is) => DataNode::Scalar(is.to_string()),
        DeValue::Datetime(time) => DataNode::Scalar(time.to_string()),
        DeValue::Array(items) => {
            let items = items.iter().map(|item| Arc::new(node(item.get_ref())));
            DataNode::List(items.collect())
        }
        DeValue::Table(table) => object(table),
    }
}
