//! The targets of a project. Those of one that was taken over are read from the description when they are first
//! asked for: in a description of very many, few are.

use std::ops::Index;
use std::sync::Arc;
use std::sync::OnceLock;

use crate::language::TargetSyntax;
use crate::language::target_of;
use crate::project::clauses::Clauses;
use crate::project::decl::Decl;
use crate::project::description::Description;
use crate::project::description::PartId;

/// Where a target stands that is not read yet.
#[derive(Clone, Copy, Debug)]
pub struct DeclPlace {
    /// The part.
    pub part: PartId,
    /// The index among its items.
    pub item: usize,
    /// Which of the lists of hole names is its own.
    pub holes: usize,
}

/// Targets that are read when they are asked for.
#[derive(Debug)]
struct Unread<'d> {
    description: &'d Description,
    places: Vec<DeclPlace>,
    /// Lists of hole names: few, since most targets have none or the same.
    holes: Vec<Vec<String>>,
}

/// The targets, in the order in which they stand.
#[derive(Debug, Default)]
pub struct Decls<'d> {
    cells: Vec<OnceLock<Arc<Decl<'d>>>>,
    unread: Option<Unread<'d>>,
}

impl<'d> Decls<'d> {
    /// Targets without variables of their own, to be read when they are asked for.
    #[must_use]
    pub fn unread(
        description: &'d Description,
        places: Vec<DeclPlace>,
        holes: Vec<Vec<String>>,
    ) -> Self {
        Self {
            cells: places.iter().map(|_| OnceLock::new()).collect(),
            unread: Some(Unread {
                description,
                places,
                holes,
            }),
        }
    }

    /// Adds a target behind the others.
    pub fn push(&mut self, decl: Decl<'d>) {
        self.cells.push(OnceLock::from(Arc::new(decl)));
    }

    /// Says what one of the targets is.
    pub fn set(&mut self, index: usize, decl: Decl<'d>) {
        if let Some(cell) = self.cells.get_mut(index) {
            *cell = OnceLock::from(Arc::new(decl));
        }
    }

    /// Leaves these, by their former indices, in this order.
    pub fn rearrange(&mut self, order: &[usize]) {
        let mut cells: Vec<_> = std::mem::take(&mut self.cells);
        self.cells = order
            .iter()
            .map(|&before| std::mem::take(&mut cells[before]))
            .collect();
        if let Some(unread) = &mut self.unread {
            // What was added since is read already: nobody asks for its place.
            let nowhere = DeclPlace {
                part: PartId::ROOT,
                item: 0,
                holes: 0,
            };
            let place = |&before: &usize| unread.places.get(before).copied().unwrap_or(nowhere);
            unread.places = order.iter().map(place).collect();
        }
    }

    /// How many there are.
    #[must_use]
    pub fn len(&self) -> usize {
        self.cells.len()
    }

    /// Whether there are none.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.cells.is_empty()
    }

    /// All of them.
    pub fn iter(&self) -> impl Iterator<Item = &Decl<'d>> {
        (0..self.len()).map(|index| &self[index])
    }

    /// One of them, to be kept while the project changes.
    #[must_use]
    pub fn shared(&self, index: usize) -> Arc<Decl<'d>> {
        Arc::clone(self.get(index))
    }

    /// One of them, when it was read.
    #[must_use]
    pub fn read_already(&self, index: usize) -> Option<&Decl<'d>> {
        self.cells.get(index)?.get().map(|decl| &**decl)
    }

    /// Where one stands that was not read yet, and its holes.
    #[must_use]
    pub fn place(&self, index: usize) -> ((PartId, usize), &[String]) {
        let unread = self.unread.as_ref();
        let place = unread.and_then(|unread| {
            let place = unread.places.get(index)?;
            let holes = unread.holes.get(place.holes)?;
            Some(((place.part, place.item), holes.as_slice()))
        });
        place.unwrap_or(((PartId::ROOT, 0), &[]))
    }

    fn get(&self, index: usize) -> &Arc<Decl<'d>> {
        self.cells[index].get_or_init(|| Arc::new(self.read(index)))
    }

    fn read(&self, index: usize) -> Decl<'d> {
        static NOTHING: TargetSyntax = TargetSyntax::NONE;
        let unread = self.unread.as_ref();
        let read = unread.and_then(|unread| {
            let place = unread.places.get(index)?;
            let items = &unread.description.parts.get(place.part.index())?.items;
            let syntax = target_of(items.get(place.item)?, &unread.description.sources)?;
            let holes = unread.holes.get(place.holes)?.clone();
            Some(((place.part, place.item), syntax, holes))
        });
        // The same text was read without a mistake when this was kept: then every place is that of a target.
        debug_assert!(read.is_some(), "a target that was kept is not there");
        let (place, syntax, holes) = read.unwrap_or(((PartId::ROOT, 0), &NOTHING, Vec::new()));
        Decl::plain(place, syntax, Clauses::sort(&syntax.clauses), holes)
    }
}

impl<'d> Index<usize> for Decls<'d> {
    type Output = Decl<'d>;

    fn index(&self, index: usize) -> &Decl<'d> {
        self.get(index)
    }
}
