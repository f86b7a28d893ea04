//! What is asked of the names of a description.

use std::collections::HashMap;

use handloom_core::language::TopItem;
use handloom_core::project::PartId;
use handloom_core::text::Span;

use crate::language_server::names::NameIndex;
use crate::language_server::names::Named;
use crate::language_server::names::Occurrence;

impl NameIndex<'_> {
    /// What stands at a byte of a source.
    pub fn at(&self, at: Span) -> Option<&Occurrence> {
        let touches =
            |span: Span| span.source == at.source && span.start <= at.start && at.start <= span.end;
        let found = self.occurrences.iter().filter(|found| touches(found.span));
        found.min_by_key(|found| found.span.len())
    }

    /// All places of one name.
    pub fn places_of<'a>(&'a self, named: &'a Named) -> impl Iterator<Item = &'a Occurrence> {
        self.occurrences
            .iter()
            .filter(move |one| one.named == *named)
    }

    /// Where a name stands that would be taken for another one, or another for it, if it were called so.
    pub fn taken(&self, named: &Named, new_name: &str) -> Option<Span> {
        let called_so = |one: &Named| match one {
            Named::Variable(_, name) | Named::Own(_, _, name) => name == new_name,
            Named::Task(_) => false,
        };
        let clashes = |other: &Occurrence| match (named, &other.named) {
            // A part may see it, or have one of its own.
            (Named::Variable(..), Named::Variable(..)) => called_so(&other.named),
            // Where both stand, the own one would win.
            (Named::Variable(..), Named::Own(part, item, _)) => {
                called_so(&other.named) && self.stands_in(named, (*part, *item))
            }
            (Named::Own(part, item, _), Named::Own(of, at, _)) => {
                (part, item) == (of, at) && called_so(&other.named)
            }
            (Named::Own(part, item, _), Named::Variable(..)) => {
                called_so(&other.named) && self.item_at(other.span) == Some((*part, *item))
            }
            (Named::Task(name), Named::Task(other)) => {
                let folder = name.rfind('/').map_or("", |at| &name[..=at]);
                *other == format!("{folder}{new_name}")
            }
            _ => false,
        };
        let all = self.occurrences.iter().filter(|one| clashes(one));
        all.max_by_key(|one| (one.is_definition, std::cmp::Reverse(one.span.start)))
            .map(|one| one.span)
    }

    /// Whether a name stands in an item.
    fn stands_in(&self, named: &Named, item: (PartId, usize)) -> bool {
        self.places_of(named)
            .any(|one| self.item_at(one.span) == Some(item))
    }

    /// The names that may stand in `@{…}` at a place of an item: its own, and the variables that it sees.
    pub fn seen_from(&self, source_at: Span) -> Vec<String> {
        let part = self.part_at(source_at);
        let mut seen: HashMap<String, ()> = HashMap::new();
        let mut around = Some(part);
        while let Some(part) = around {
            for name in &self.variables[part.index()] {
                seen.insert((*name).to_owned(), ());
            }
            around = self.description.parts[part.index()].parent;
        }
        if let Some(item) = self.item_at(source_at) {
            for one in &self.occurrences {
                if let Named::Own(of, at, name) = &one.named
                    && (*of, *at) == item
                {
                    seen.insert(name.clone(), ());
                }
            }
        }
        let mut seen: Vec<String> = seen.into_keys().collect();
        seen.sort_unstable();
        seen
    }

    /// The item whose lines hold a place.
    fn item_at(&self, at: Span) -> Option<(PartId, usize)> {
        let parts = (0..).map(PartId).zip(&self.description.parts);
        let mut all = parts.flat_map(|(part, described)| {
            let extents = described.extents.iter().enumerate();
            extents.map(move |(item, extent)| (part, item, extent))
        });
        let found = all.find(|(_, _, extent)| {
            extent.source == at.source && extent.start <= at.start && at.start <= extent.end + 1
        });
        found.map(|(part, item, _)| (part, item))
    }

    /// The part that a source belongs to.
    pub fn part_at(&self, at: Span) -> PartId {
        if let Some((part, _)) = self.item_at(at) {
            return part;
        }
        let name = &self.description.sources.get(at.source).name;
        let folder = name.rfind('/').map_or("", |at| &name[..=at]);
        let found = self.description.parts.iter();
        let found = found
            .enumerate()
            .rev()
            .find(|(_, part)| folder.starts_with(&part.folder));
        found.map_or(PartId::ROOT, |(at, _)| {
            PartId(u32::try_from(at).unwrap_or(0))
        })
    }

    /// What the description has a supply of.
    pub fn supplies(&self) -> impl Iterator<Item = &str> {
        let parts = self.description.parts.iter();
        let items = parts.flat_map(|part| &part.items);
        items.filter_map(|item| match item {
            TopItem::Supply(name, _) => Some(&*name.text),
            _ => None,
        })
    }

    /// All tasks, by their names from the root.
    pub fn tasks(&self) -> impl Iterator<Item = &str> {
        self.tasks.iter().map(String::as_str)
    }
}
