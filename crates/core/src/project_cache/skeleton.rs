//! A description as it was read before: the place of each item is known, and targets are read when they are asked
//! for.
//!
//! A file of which the text is another one now is taken over as well, as long as all that differs is targets: some
//! are made in another way, a few came, went, or need something else.

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
use crate::project::clauses::Clauses;
use crate::project::description::Part;
use crate::project_cache::cache_file::CacheFile;
use crate::project_cache::cache_layout;
use crate::project_cache::cache_layout::ItemRec;
use crate::project_cache::front::Front;
use crate::project_cache::text_edit::Fate;
use crate::project_cache::text_edit::fates;
use crate::text::SourceId;
use crate::text::Span;
use crate::world::Digest;
use crate::world::Disk;

/// A description that was read before.
pub struct Skeleton {
    /// The description.
    pub description: Description,
    /// In what it differs; none when all texts are as they were.
    pub edit: Option<Edit>,
}

/// In which targets a description differs from the one that was read before.
#[derive(Debug, Default)]
pub struct Edit {
    /// Targets of which only the recipe differs, or what is said about them: a part, and the index of an item in it,
    /// both as they were.
    pub reworded: HashSet<(u32, u32)>,
    /// For each part where each of its items stands now; none for those that are gone.
    pub places: Vec<Vec<Option<u32>>>,
    /// Targets that were not described: a part, and the index of an item in it.
    pub fresh: Vec<(PartId, usize)>,
    /// Whether any is gone.
    pub has_gone: bool,
}

impl Edit {
    /// Whether there are other targets than before.
    pub fn is_structural(&self) -> bool {
        self.has_gone || !self.fresh.is_empty()
    }

    /// Where an item stands now.
    pub fn place(&self, part: u32, item: u32) -> Option<u32> {
        *self.places.get(part as usize)?.get(item as usize)?
    }
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

/// More targets than this, and more than one in so many, that came or went are not worth telling from the others.
const MANY: usize = 64;
const SHARE: usize = 32;

/// A file whose text is another one now.
struct Retold {
    /// Its items now, without directives.
    items: Vec<OutlineItem>,
    /// What has become of each item that it had.
    fates: Vec<Fate>,
    /// How many of these were dealt with.
    known: usize,
    /// How many of the new items were dealt with.
    next: usize,
    /// The last item of before of which something is there.
    last: Option<usize>,
    /// How many items stand in front of a directive: what that puts in stands among them.
    in_front: usize,
}

/// Reads the texts of a description's files; none when one of them says something else than it did, beyond which
/// targets there are.
pub fn read(front: &Front, body: &CacheFile, disk: &dyn Disk) -> Option<Skeleton> {
    let mut description = Description {
        absent: front.header.absent.clone(),
        ..Description::default()
    };
    let mut retold: Vec<Option<Retold>> = Vec::new();
    let mut of_file: Option<Vec<Vec<u64>>> = None;
    for (number, file) in front.header.files.iter().enumerate() {
        let leads_out = !description.files.is_empty() && disk.leads_out(&file.name).unwrap_or(true);
        let bytes = disk.read(&file.name).ok().filter(|_| !leads_out)?;
        let is_same = Digest::of(&bytes) == file.digest;
        let id = description
            .sources
            .add(&file.name, String::from_utf8(bytes).ok()?);
        description.files.push(file.name.clone());
        if is_same {
            retold.push(None);
            continue;
        }
        let known = of_file.get_or_insert_with(|| digests(front.header.files.len(), body));
        let items = outline(id, &description.sources.get(id).text)?;
        if file.directives != Some(directives(&items)) {
            return None;
        }
        retold.push(Some(retell(known.get(number)?, items)));
    }
    let is_same = retold.iter().all(Option::is_none);
    let mut edit = Edit::default();
    let mut records = body.items().iter();
    for (number, (folder, parent, count)) in (0..).zip(&body.header.parts) {
        let mut part = Part {
            folder: folder.clone(),
            parent: parent.map(PartId),
            items: Vec::with_capacity(*count as usize),
            extents: Vec::with_capacity(*count as usize),
        };
        let mut places = Vec::new();
        for (at, record) in (0..*count).zip(records.by_ref()) {
            let source = SourceId(record.source.get());
            let text = &description.sources.get(source).text;
            let Some(retold) = retold.get_mut(source.0 as usize)? else {
                if !is_same {
                    places.push(Some(cache_layout::number(part.items.len())));
                }
                let (item, extent) = known(record, text)?;
                part.items.push(item);
                part.extents.push(extent);
                continue;
            };
            let mut put_in = Retelling {
                text,
                retold,
                part: &mut part,
                id: PartId(number),
                edit: &mut edit,
            };
            places.push(put_in.item(record, at)?);
        }
        edit.places.push(places);
        description.parts.push(part);
    }
    let changes = edit.fresh.len()
        + edit
            .places
            .iter()
            .flatten()
            .filter(|at| at.is_none())
            .count();
    let is_whole = retold
        .iter()
        .flatten()
        .all(|retold| retold.next == retold.items.len());
    let is_small = changes <= MANY + body.items().len() / SHARE;
    (is_whole && is_small).then_some(Skeleton {
        description,
        edit: (!is_same).then_some(edit),
    })
}

/// The digests of the items of each file, in order.
fn digests(files: usize, body: &CacheFile) -> Vec<Vec<u64>> {
    let mut of_file = vec![Vec::new(); files];
    for record in body.items() {
        if let Some(digests) = of_file.get_mut(record.source.get() as usize) {
            digests.push(record.digest.get());
        }
    }
    of_file
}

/// What has become of the items of a file.
fn retell(known: &[u64], items: Vec<OutlineItem>) -> Retold {
    let last_directive = items.iter().rposition(|item| item.is_directive);
    let front = &items[..last_directive.unwrap_or(0)];
    let in_front = front.iter().filter(|item| !item.is_directive).count();
    let items: Vec<OutlineItem> = items
        .into_iter()
        .filter(|item| !item.is_directive)
        .collect();
    let new: Vec<u64> = items.iter().map(|item| item.digest).collect();
    let fates = fates(known, &new);
    Retold {
        items,
        last: fates.iter().rposition(|fate| *fate != Fate::Gone),
        fates,
        known: 0,
        next: 0,
        in_front,
    }
}

/// A part whose items are put in from a file whose text is another one now.
struct Retelling<'r> {
    text: &'r str,
    retold: &'r mut Retold,
    part: &'r mut Part,
    id: PartId,
    edit: &'r mut Edit,
}

impl Retelling<'_> {
    /// Puts in what has become of the next item of before, with what came around it; where it stands, when it is
    /// there.
    fn item(&mut self, record: &ItemRec, at: u32) -> Option<Option<u32>> {
        let known = self.retold.known;
        self.retold.known += 1;
        let mut place = None;
        match *self.retold.fates.get(known)? {
            Fate::Same(new) => {
                self.fresh_before(new)?;
                let extent = self.retold.items.get(new)?.extent;
                place = Some(self.put_in(moved(record, self.text, extent)?, extent));
            }
            Fate::Other(new) => {
                self.fresh_before(new)?;
                let extent = self.retold.items.get(new)?.extent;
                if let Some(item) = described_otherwise(record, self.text, extent) {
                    place = Some(self.put_in(item, extent));
                    self.edit.reworded.insert((self.id.0, at));
                } else {
                    self.fresh_before(new + 1)?;
                }
            }
            Fate::Gone => {}
        }
        if place.is_none() {
            // Only a target without variables of its own can go without a trace. What a directive puts in stands
            // behind as many items as before, so that none of those may go.
            let can_go = record.unread.get() == 1 && known >= self.retold.in_front;
            can_go.then_some(())?;
            self.edit.has_gone = true;
        }
        let is_more = self.retold.next < self.retold.items.len();
        if self.retold.last == Some(known) && is_more {
            // What a directive puts in stands behind this item, and in front of those.
            let is_in_front = self.retold.next <= self.retold.in_front;
            (self.retold.in_front == 0 || !is_in_front).then_some(())?;
            self.fresh_before(self.retold.items.len())?;
        }
        Some(place)
    }

    fn put_in(&mut self, item: TopItem, extent: Span) -> u32 {
        self.part.items.push(item);
        self.part.extents.push(extent);
        self.retold.next += 1;
        cache_layout::number(self.part.items.len() - 1)
    }

    /// Puts in the new items up to this one.
    fn fresh_before(&mut self, end: usize) -> Option<()> {
        while self.retold.next < end {
            if self.retold.next < self.retold.in_front {
                return None;
            }
            let extent = self.retold.items.get(self.retold.next)?.extent;
            let item = parse_item_strictly(self.text, extent)?;
            let TopItem::Target(target) = &item else {
                return None;
            };
            if !Clauses::sort(&target.clauses).lets.is_empty() {
                return None;
            }
            let at = self.put_in(item, extent);
            self.edit.fresh.push((self.id, at as usize));
        }
        Some(())
    }
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
