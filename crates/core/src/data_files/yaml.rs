//! YAML 1.2, read so that numbers stay as they are written.
//!
//! Plain scalars are texts but for those that the core schema calls null. Tags are not heeded.

use std::collections::HashMap;
use std::sync::Arc;

use saphyr_parser::Event;
use saphyr_parser::Parser;
use saphyr_parser::ScalarStyle;

use crate::data_files::answer::DataError;
use crate::data_files::answer::MAX_DEPTH;
use crate::data_files::node::DataNode;

/// A list or an object that is not at its end.
struct UnfinishedNode {
    node: DataNode,
    anchor: usize,
    /// The key whose value comes next.
    key: Option<String>,
}

pub fn read(name: &str, text: &str) -> Result<DataNode, DataError> {
    let mut reader = YamlReader {
        name,
        open: Vec::new(),
        anchors: HashMap::new(),
        whole: None,
    };
    for event in Parser::new_from_str(text) {
        let (event, span) = event.map_err(|error| {
            DataError::new(
                format!("`{name}` line {}: {}", error.marker().line(), error.info()),
                "the file is not as YAML has it",
            )
        })?;
        reader.take(event, span.start.line())?;
    }
    let whole = reader.whole.map(Arc::unwrap_or_clone);
    Ok(whole.unwrap_or_else(|| DataNode::Object(Vec::new())))
}

struct YamlReader<'n> {
    name: &'n str,
    open: Vec<UnfinishedNode>,
    anchors: HashMap<usize, Arc<DataNode>>,
    whole: Option<Arc<DataNode>>,
}

impl YamlReader<'_> {
    fn take(&mut self, event: Event<'_>, line: usize) -> Result<(), DataError> {
        match event {
            Event::Scalar(text, style, anchor, tag) => {
                let is_null = style == ScalarStyle::Plain
                    && tag.is_none()
                    && matches!(&*text, "" | "~" | "null" | "Null" | "NULL");
                let node = match is_null {
                    true => DataNode::Null,
                    false => DataNode::Scalar(text.into_owned()),
                };
                self.put(Arc::new(node), anchor, line)
            }
            Event::SequenceStart(anchor, _) => self.begin(DataNode::List(Vec::new()), anchor),
            Event::MappingStart(anchor, _) => self.begin(DataNode::Object(Vec::new()), anchor),
            Event::SequenceEnd | Event::MappingEnd => match self.open.pop() {
                Some(open) => self.put(Arc::new(open.node), open.anchor, line),
                None => Ok(()),
            },
            Event::Alias(anchor) => match self.anchors.get(&anchor).cloned() {
                Some(node) => self.put(node, 0, line),
                None => Err(DataError::new(
                    format!(
                        "`{}` line {line}: an alias stands inside of what it names",
                        self.name
                    ),
                    "a value can't hold itself",
                )),
            },
            Event::DocumentStart(_) if self.whole.is_some() => Err(DataError::new(
                format!("`{}` line {line}: a second document begins", self.name),
                "a file that values come from holds one document",
            )),
            _ => Ok(()),
        }
    }

    fn begin(&mut self, node: DataNode, anchor: usize) -> Result<(), DataError> {
        if self.open.len() > MAX_DEPTH {
            return Err(DataError::new(
                format!(
                    "`{}` has lists or objects more than {MAX_DEPTH} deep",
                    self.name
                ),
                "put what is asked for further out",
            ));
        }
        let key = None;
        self.open.push(UnfinishedNode { node, anchor, key });
        Ok(())
    }

    /// Puts what is complete where it belongs.
    fn put(&mut self, node: Arc<DataNode>, anchor: usize, line: usize) -> Result<(), DataError> {
        if anchor > 0 {
            self.anchors.insert(anchor, Arc::clone(&node));
        }
        let Some(open) = self.open.last_mut() else {
            self.whole = Some(node);
            return Ok(());
        };
        match &mut open.node {
            DataNode::List(items) => items.push(node),
            DataNode::Object(entries) => match (open.key.take(), &*node) {
                (Some(key), _) => {
                    if entries.iter().any(|(known, _)| *known == key) {
                        return Err(DataError::new(
                            format!(
                                "`{}` line {line}: the key `{key}` stands here twice",
                                self.name
                            ),
                            "leave one of them out",
                        ));
                    }
                    entries.push((key, node));
                }
                (None, DataNode::Scalar(text)) => open.key = Some(text.clone()),
                (None, DataNode::Null) => open.key = Some("null".to_owned()),
                (None, _) => {
                    return Err(DataError::new(
                        format!(
                            "`{}` line {line}: a list or an object stands as a key",
                            self.name
                        ),
                        "keys are texts",
                    ));
                }
            },
            DataNode::Null | DataNode::Scalar(_) => {}
        }
        Ok(())
    }
}
