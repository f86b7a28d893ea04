//! Targets that are read when they are first asked for.

use crate::language::parser::parse_item;
use crate::language::syntax::TargetSyntax;
use crate::language::syntax::TopItem;
use crate::text::Sources;

/// The target that an item describes; none when it describes none.
#[must_use]
pub fn target_of<'d>(item: &'d TopItem, sources: &Sources) -> Option<&'d TargetSyntax> {
    match item {
        TopItem::Target(target) => Some(target),
        TopItem::Unread(unread) => {
            let read = || match parse_item(&sources.get(unread.extent.source).text, unread.extent) {
                Some(TopItem::Target(target)) => Some(target),
                _ => None,
            };
            unread.target.get_or_init(read).as_deref()
        }
        _ => None,
    }
}
