//! A description as it was read before: the place of each item is known, and targets are read when they are asked
//! for.

use crate::language::TopItem;
use crate::language::UnreadTarget;
use crate::language::parse_item;
use crate::project::Description;
use crate::project::PartId;
use crate::project::description::Part;
use crate::project_cache::cache_file::CacheFile;
use crate::project_cache::front::Front;
use crate::text::SourceId;
use crate::text::Span;
use crate::world::Digest;
use crate::world::Disk;

/// Reads the texts of a description's files; none when one of them is not what it was.
pub fn read(front: &Front, body: &CacheFile, disk: &dyn Disk) -> Option<Description> {
    let mut description = Description::default();
    for (name, _, digest) in &front.header.files {
        let leads_out = !description.files.is_empty() && disk.leads_out(name).unwrap_or(true);
        let bytes = disk.read(name).ok().filter(|_| !leads_out)?;
        if Digest::of(&bytes) != *digest {
            return None;
        }
        description
            .sources
            .add(name, String::from_utf8(bytes).ok()?);
        description.files.push(name.clone());
    }
    let mut items = body.items().iter();
    for (folder, parent, count) in &body.header.parts {
        let mut part = Part {
            folder: folder.clone(),
            parent: parent.map(PartId),
            items: Vec::with_capacity(*count as usize),
            extents: Vec::with_capacity(*count as usize),
        };
        for record in items.by_ref().take(*count as usize) {
            let extent = Span {
                source: SourceId(record.source.get()),
                start: record.start.get(),
                end: record.end.get(),
            };
            if extent.source.0 as usize >= description.files.len() {
                return None;
            }
            let source = description.sources.get(extent.source);
            source
                .text
                .get(extent.start as usize..extent.end as usize)?;
            part.items.push(if record.unread.get() == 1 {
                TopItem::Unread(UnreadTarget::on(extent))
            } else {
                parse_item(&source.text, extent)?
            });
            part.extents.push(extent);
        }
        description.parts.push(part);
    }
    Some(description)
}
