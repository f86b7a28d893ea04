//! Which variables there are, which names are seen from where, and what is said of one that is not.

use std::cell::Cell;
use std::cell::RefCell;

use crate::language::ClauseKind;
use crate::language::Let;
use crate::language::LetHow;
use crate::language::TopItem;
use crate::language::ValueSyntax as Written;
use crate::language::VarRef;
use crate::project::circles;
use crate::project::description::Description;
use crate::project::description::PartId;
use crate::project::environment::Environment;
use crate::project::folders::Folders;
use crate::project::frame::Frame;
use crate::project::overrides::SetOutside;
use crate::project::paths::from_root;
use crate::project::recipe_env::CORES;
use crate::project::templates;
use crate::project::value::Value;
use crate::project::values::Lookup;
use crate::project::values::PartEnv;
use crate::project::values::Scope;
use crate::project::values::Templates;
use crate::project::values::Vars;
use crate::text::Diagnostic;
use crate::text::mistakes;
use crate::text::nearest;

/// The names every recipe and description knows.
const BUILT_IN: [&str; 3] = ["os", "arch", "root"];

/// The environment variables that hold secrets, as far as they are written plainly.
fn secrets(description: &Description) -> Vec<String> {
    let mut found = Vec::new();
    let mut look = |definition: &Let| {
        if let Written::Secret(name) = &definition.value {
            found.push(description.sources.slice(name.span).to_owned());
        }
    };
    for item in description.parts.iter().flat_map(|part| &part.items) {
        let clauses = match item {
            TopItem::Let(definition) => {
                look(definition);
                continue;
            }
            TopItem::Target(target) => &target.clauses,
            TopItem::Task(task) => &task.clauses,
            // One that is read when it is asked for has no variables of its own.
            _ => continue,
        };
        for clause in clauses {
            if let ClauseKind::Let(definition) = &clause.kind {
                look(definition);
            }
        }
    }
    found
}

impl<'d> Vars<'d> {
    /// Nothing is worked out yet.
    pub fn new(
        description: &'d Description,
        outside: &'d SetOutside,
        environment: &'d dyn Environment,
        folders: &'d Folders<'d>,
    ) -> Self {
        let mut scopes = Vec::with_capacity(description.parts.len());
        let mut interpreters = Vec::with_capacity(description.parts.len());
        let mut part_env = Vec::with_capacity(description.parts.len());
        for part in &description.parts {
            let mut scope = Scope::new();
            let mut interpreter = None;
            let mut env = PartEnv::default();
            for item in &part.items {
                match item {
                    TopItem::Recipes(words) => interpreter = Some(words.as_slice()),
                    TopItem::Env(name, words) => env.names.push((name, words.as_slice())),
                    TopItem::EnvFile(file) => env.files.push(file),
                    _ => {}
                }
                if let TopItem::Let(definition) = item {
                    scope
                        .entry(&definition.name.text)
                        .or_default()
                        .push(definition);
                }
            }
            scopes.push(scope);
            interpreters.push(interpreter);
            part_env.push(env);
        }
        let secrets = secrets(description);
        let mut vars = Self {
            templates: Templates::new(),
            secrets,
            description,
            environment,
            folders,
            outside,
            scopes,
            interpreters,
            part_env,
            known: RefCell::default(),
            depth: Cell::new(0),
            data_files: RefCell::default(),
            diagnostics: RefCell::default(),
            reported: RefCell::default(),
        };
        vars.templates = templates::find(&vars);
        vars.check_definitions();
        circles::report(&vars);
        vars
    }

    fn check_definitions(&self) {
        for (scope, part) in self.scopes.iter().zip(&self.description.parts) {
            for (name, definitions) in scope {
                let above = part.parent.is_some_and(|above| self.is_known(above, name));
                if !above
                    && definitions
                        .iter()
                        .all(|definition| definition.how == LetHow::Add)
                {
                    self.nothing_to_add_to(definitions[0]);
                }
                let mut base = definitions.iter().filter(|definition| {
                    definition.when.is_none() && definition.how != LetHow::Add
                });
                if let (Some(first), Some(second)) = (base.next(), base.next()) {
                    let name = &second.name.text;
                    self.report(
                        Diagnostic::error(&mistakes::REPEATED_VARIABLE, second.name.span, format!("`{name}` is set twice"))
                            .also(first.name.span, "first here")
                            .help("remove one of them, put `when …` behind the second, or add to the first with `+=`"),
                    );
                }
            }
        }
    }

    /// Where a name is looked for: `geo/incs` is `incs` as the part in `geo/` sees it, seen from here or from a part above.
    /// None when there is no such part.
    fn seen_from<'n>(&self, part: PartId, name: &'n str) -> Option<(PartId, &'n str)> {
        let Some((folder, name)) = name.rsplit_once('/') else {
            return Some((part, name));
        };
        let mut at = Some(part);
        while let Some(id) = at {
            let part = &self.description.parts[id.index()];
            let folder = format!("{}/", from_root(&part.folder, folder));
            let mut parts = (0..).map(PartId).zip(&self.description.parts);
            if let Some((found, _)) = parts.find(|(_, part)| part.folder == folder) {
                return Some((found, name));
            }
            at = part.parent;
        }
        None
    }

    /// The part that a name seen from a part is defined in.
    pub(super) fn home(&self, part: PartId, name: &str) -> Option<(PartId, &[&'d Let])> {
        let (part, name) = self.seen_from(part, name)?;
        let mut at = Some(part);
        while let Some(id) = at {
            if let Some(definitions) = self.scopes[id.index()].get(name) {
                return Some((id, definitions));
            }
            at = self.description.parts[id.index()].parent;
        }
        None
    }

    /// Whether a name is a variable seen from a part, without working it out.
    pub fn is_known(&self, part: PartId, name: &str) -> bool {
        let Some((part, name)) = self.seen_from(part, name) else {
            return false;
        };
        let mut at = Some(part);
        while let Some(id) = at {
            if self.scopes[id.index()].contains_key(name) {
                return true;
            }
            at = self.description.parts[id.index()].parent;
        }
        BUILT_IN.contains(&name)
    }

    /// Whether a name is a variable seen from a part that has a value without any holes.
    pub fn has_value(&self, part: PartId, name: &str) -> bool {
        let home = self.home(part, name);
        let is_template = home
            .is_some_and(|(home, lets)| self.templates.contains_key(&(home, &*lets[0].name.text)));
        !is_template && self.is_known(part, name)
    }

    /// The variables of the parts below one, as they are named from there.
    fn names_below(&self, part: PartId) -> Vec<String> {
        let own = &self.description.parts[part.index()].folder;
        let declared = self.declared().filter_map(|(of, name, _)| {
            let folder = self.description.parts[of.index()]
                .folder
                .strip_prefix(own)?;
            (of != part).then(|| format!("{folder}{name}"))
        });
        declared.collect()
    }

    /// Reports a name that is not known in a frame.
    pub fn unknown(&self, reference: &VarRef, frame: &Frame<'_>) {
        let name = &*reference.name.text;
        let mut known: Vec<&str> = frame.locals.iter().map(|(name, _)| *name).collect();
        known.extend(BUILT_IN);
        let mut part = Some(frame.part);
        while let Some(id) = part {
            known.extend(self.scopes[id.index()].keys());
            part = self.description.parts[id.index()].parent;
        }
        let of_parts = match name.contains('/') {
            true => self.names_below(frame.part),
            false => Vec::new(),
        };
        known.extend(of_parts.iter().map(String::as_str));
        let near = nearest(name, known.iter().copied()).filter(|_| name != CORES);
        let help = match near {
            Some(near) => format!("did you mean `@{{{near}}}`?"),
            None if name == "here" => {
                "only tasks know it: the folder that the command was typed in".to_owned()
            }
            None if name == CORES => {
                "only recipes and their `env` know it: how many cores a job may use".to_owned()
            }
            None => format!("set it with `let {name} = …`; a literal `@{{` is written `@@{{`"),
        };
        let wrong = Diagnostic::error(
            &mistakes::UNKNOWN_VARIABLE,
            reference.span,
            format!("there is no variable `{name}` here"),
        );
        self.report(match near {
            Some(near) => wrong.help(help).instead(reference.name.span, near),
            None => wrong.help(help),
        });
    }

    /// The value of a variable, when there is one and it is right.
    pub fn known_value(&self, part: PartId, name: &str) -> Option<Value> {
        match self.lookup(part, name) {
            Lookup::Found(value) => Some(value),
            Lookup::Wrong | Lookup::Missing => None,
        }
    }

    /// A part's variable, or that of a part above.
    pub fn lookup(&self, part: PartId, name: &str) -> Lookup {
        let Some((part, name)) = self.seen_from(part, name) else {
            return Lookup::Missing;
        };
        let mut at = Some(part);
        while let Some(id) = at {
            if let Some((&name, _)) = self.scopes[id.index()].get_key_value(name) {
                return match self.defined(id, name) {
                    Some(value) => Lookup::Found(value),
                    None => Lookup::Wrong,
                };
            }
            at = self.description.parts[id.index()].parent;
        }
        Lookup::Found(match name {
            "os" => Value::word(self.environment.os()),
            "arch" => Value::word(self.environment.arch()),
            "root" => Value::word(self.environment.root()),
            _ => return Lookup::Missing,
        })
    }
}
