//! A description as it was read before: the place of each item is known, and targets are read when they are asked
//! for.
//!
//! A file of which the text is another one now is taken over as well, as long as all that differs is how some
//! targets are made and what is said about them: then there are the same steps, which need the same files.

use std::collections::HashSet;

use xxhash_rust::xxh3::Xxh3;

use crate::language::OutlineItem;
use crate::language::TopItem;
use crate::language::UnreadTarget;
use crate::language::item_digest;
use crate::language::outline;
use crate::language::parse_item;
use crate::language::parse_item_strictly;
use crate::language::structure_digest;
use crate::project::Description;
use crate::project::PartId;
use crate::project::decl::Clauses;
use crate::project::description::Part;
use crate::project_cache::cache_file::CacheFile;
use crate::project_cache::cache_layout::ItemRec;
use crate::project_cache::front::Front;
use crate::text::SourceId;
use crate::text::Span;
use crate::world::Digest;
use crate::world::Disk;

/// A description that was read before.
pub struct Skeleton {
    /// The description.
    pub description: Description,
    /// The targets that are described otherwise now: a part, and the index of an item in it. None when all texts
    /// are as they were.
    pub changed: Option<HashSet<(u32, u32)>>,
}

/// The XXH3 of what a file puts in, and where.
pub fn directives(items: &[OutlineItem]) -> u64 {
    let mut hasher = Xxh3::new();
    for (at, item) in (0u64..).zip(items).filter(|(_, item)| item.is_directive) {
        hasher.update(&at.to_le_bytes());
        hasher.update(&item.digest.to_le_bytes());
    }
    hasher.digest()
}

/// The items of a file whose text is another one now, in order.
type NewItems = std::vec::IntoIter<OutlineItem>;

/// Reads the texts of a description's files; none when one of them says something else than it did.
pub fn read(front: &Front, body: &CacheFile, disk: &dyn Disk) -> Option<Skeleton> {
    let mut description = Description::default();
    let mut of_file: Vec<Option<NewItems>> = Vec::new();
    for file in &front.header.files {
        let leads_out = !description.files.is_empty() && disk.leads_out(&file.name).unwrap_or(true);
        let bytes = disk.read(&file.name).ok().filter(|_| !leads_out)?;
        let is_same = Digest::of(&bytes) == file.digest;
        let id = description
            .sources
            .add(&file.name, String::from_utf8(bytes).ok()?);
        description.files.push(file.name.clone());
        of_file.push(if is_same {
            None
        } else {
            let items = outline(id, &description.sources.get(id).text)?;
            if file.directives != Some(directives(&items)) {
                return None;
            }
            let items: Vec<OutlineItem> = items
                .into_iter()
                .filter(|item| !item.is_directive)
                .collect();
            Some(items.into_iter())
        });
    }
    let is_same = of_file.iter().all(Option::is_none);
    let mut changed = HashSet::new();
    let mut records = body.items().iter();
    for (number, (folder, parent, count)) in (0..).zip(&body.header.parts) {
        let mut part = Part {
            folder: folder.clone(),
            parent: parent.map(PartId),
            items: Vec::with_capacity(*count as usize),
            extents: Vec::with_capacity(*count as usize),
        };
        for (at, record) in (0..*count).zip(records.by_ref()) {
            let source = SourceId(record.source.get());
            let new = match of_file.get_mut(source.0 as usize)? {
                None => None,
                Some(items) => Some(items.next()?),
            };
            let text = &description.sources.get(source).text;
            let (item, extent, differs) = match new {
                None => {
                    let (item, extent) = known(record, text)?;
                    (item, extent, false)
                }
                Some(new) if new.digest == record.digest.get() => {
                    (moved(record, text, new.extent)?, new.extent, false)
                }
                Some(new) => (
                    described_otherwise(record, text, new.extent)?,
                    new.extent,
                    true,
                ),
            };
            if differs {
                changed.insert((number, at));
            }
            part.items.push(item);
            part.extents.push(extent);
        }
        description.parts.push(part);
    }
    // What stands behind the items that were known is new.
    let is_whole = of_file
        .iter_mut()
        .flatten()
        .all(|items| items.next().is_none());
    is_whole.then_some(Skeleton {
        description,
        changed: (!is_same).then_some(changed),
    })
}

/// An item where it was.
fn known(record: &ItemRec, text: &str) -> Option<(TopItem, Span)> {
    let extent = Span {
        source: SourceId(record.source.get()),
        start: record.start.get(),
        end: record.end.get(),
    };
    text.get(extent.start as usize..extent.end as usize)?;
    Some((moved(record, text, extent)?, extent))
}

/// The same item at a new place.
fn moved(record: &ItemRec, text: &str, extent: Span) -> Option<TopItem> {
    debug_assert_eq!(item_digest(text, extent), record.digest.get());
    if record.unread.get() == 1 {
        return Some(TopItem::Unread(UnreadTarget::on(extent)));
    }
    parse_item(text, extent)
}

/// A target that is made in another way, or about which something else is said; none when more differs, or when
/// something has to be said of it.
fn described_otherwise(record: &ItemRec, text: &str, extent: Span) -> Option<TopItem> {
    let structure = structure_digest(text, extent)?;
    if record.unread.get() == 0 || structure != record.structure.get() {
        return None;
    }
    let item = parse_item_strictly(text, extent)?;
    let TopItem::Target(target) = &item else {
        return None;
    };
    let clauses = Clauses::sort(&target.clauses);
    (clauses.recipe.is_some() && clauses.lets.is_empty()).then_some(item)
}
