//! Keeping a project for the next run.

use std::io;

use crate::content::Reader;
use crate::content::Record;
use crate::language::outline;
use crate::ledger::KeptFile;
use crate::ledger::Ledger;
use crate::ledger::arrays::seal_of;
use crate::project::Description;
use crate::project::Project;
use crate::project_cache::cached_project::CachedProject;
use crate::project_cache::dependencies::CacheDependencies;
use crate::project_cache::front;
use crate::project_cache::front::FrontHeader;
use crate::project_cache::front::KeptText;
use crate::project_cache::front::OtherTexts;
use crate::project_cache::key::place;
use crate::project_cache::load::LoadedProject;
use crate::project_cache::looks::LookCollector;
use crate::project_cache::request::CachedRequest;
use crate::project_cache::skeleton::directives;
use crate::project_cache::writer;
use crate::project_cache::writer::BuildOutcome;
use crate::status::RecordingEnvironment;
use crate::world::Digest;

/// A journal that is longer is folded before a project is kept: the next run then has little to read.
const SHORT_JOURNAL: usize = 1 << 16;

/// Keeps a project for the next run.
///
/// # Errors
/// When the ledger can't be written. That a project is not kept is no error.
pub fn keep<'d>(
    loaded: &mut LoadedProject<'d>,
    outcome: &BuildOutcome<'_, 'd>,
    ledger: &mut Ledger,
    environment: &RecordingEnvironment<'_>,
) -> io::Result<()> {
    let is_personal = outcome.vars.description.is_personal;
    if is_personal || ledger.has_unfinished() || !writer::is_keepable(&loaded.project) {
        return Ok(());
    }
    let earlier = loaded.cached.as_ref().map(CachedProject::dependencies);
    let dependencies = dependencies(&loaded.project, outcome, ledger, environment);
    let (Some(key), Some(mut dependencies)) = (environment.key, dependencies) else {
        return Ok(());
    };
    dependencies.extend(earlier);
    let project = &mut loaded.project;
    write(project, outcome, ledger, environment, &key, dependencies)
}

/// Keeps a project of which a few targets were described otherwise, with all that is known of it else; the seal of its
/// new front, or none when that can't be done. To be called when all that it reaches is up to date.
pub fn keep_patched(
    loaded: &mut LoadedProject<'_>,
    outcome: &BuildOutcome<'_, '_>,
    ledger: &mut Ledger,
    environment: &RecordingEnvironment<'_>,
) -> Option<[u8; 32]> {
    let cached = loaded.cached.as_ref()?;
    let before = cached.texts();
    // What the texts put in was compared when they were read.
    let directives = |file: usize| before.get(file)?.directives;
    let files = files(outcome.vars.description, environment, directives)?;
    let key = environment.key?;
    // A recipe that is another one may ask for what no other did.
    let mut dependencies = dependencies(&loaded.project, outcome, ledger, environment)?;
    dependencies.extend(Some(cached.dependencies()));
    let parts = &outcome.vars.description.parts;
    let holding = cached.holding(&mut loaded.project, outcome.order, parts, ledger)?;
    let body = writer::body(&loaded.project, outcome, &holding, &key, |pieces, seal| {
        ledger.keep(KeptFile::Body, pieces).map(|()| seal)
    })?;
    let texts = OtherTexts {
        files,
        project: outcome.key,
        dependencies,
        steps_in_order: holding.steps_in_order,
        body: body.ok()?,
    };
    let front = cached.front_with_texts(texts, &key)?;
    ledger.keep(KeptFile::Front, &[&front]).ok()?;
    Some(seal_of(&front))
}

/// What working the project out depended on.
fn dependencies(
    project: &Project<'_>,
    outcome: &BuildOutcome<'_, '_>,
    ledger: &Ledger,
    environment: &RecordingEnvironment<'_>,
) -> Option<CacheDependencies> {
    let is_made = |path: &str| {
        let path = project.paths.find(path);
        path.is_some_and(|path| project.maker(path).is_some())
    };
    CacheDependencies::of(environment, outcome.folders, ledger, &is_made)
}

/// Writes front and body, unless the project can't be kept.
fn write(
    project: &mut Project<'_>,
    outcome: &BuildOutcome<'_, '_>,
    ledger: &mut Ledger,
    environment: &RecordingEnvironment<'_>,
    key: &[u8; 32],
    dependencies: CacheDependencies,
) -> io::Result<()> {
    let description = outcome.vars.description;
    let of_text = |file: usize| {
        let (id, source) = description.sources.iter().nth(file)?;
        outline(id, &source.text).map(|items| directives(&items))
    };
    let Some(files) = files(description, environment, of_text) else {
        return Ok(());
    };
    let reader = Reader {
        disk: environment.disk,
        clock: environment.clock,
        records: &*ledger,
    };
    let mut looks = LookCollector::new(&reader, project.paths.len());
    let holding = writer::gather(project, outcome, ledger, &mut looks);
    let read = looks.settle(&project.paths, outcome.threads);
    let is_unsure = looks.is_unsure;
    let looks = looks.gathered();
    if holding.has_new_edges {
        // The next run works out anew in which order that puts it.
        return Ok(());
    }
    ledger.add_all(read)?;
    if ledger.end() > SHORT_JOURNAL {
        ledger.fold()?;
    }
    // What the ledger held in memory is in its snapshot now: there is room for more.
    let looks = looks.sorted(&project.paths);
    let Some(mark) = ledger.mark()? else {
        return Ok(());
    };
    // Keeping spares time and nothing else; a disk that is full is told of by the ledger.
    let body = writer::body(project, outcome, &holding, key, |pieces, seal| {
        ledger.keep(KeptFile::Body, pieces).map(|()| seal)
    });
    let Some(Ok(body)) = body else {
        return Ok(());
    };
    let header = FrontHeader {
        key: outcome.key,
        place: place(environment),
        outside: outcome.vars.outside_digest(),
        files,
        absent: description.absent.clone(),
        request: CachedRequest::of(outcome.request),
        mark,
        dependencies,
        all_good: holding.all_good && !description.is_remarkable,
        is_unsure,
        is_remarkable: description.is_remarkable,
        steps_in_order: holding.steps_in_order,
        body,
    };
    // A body without its front is not read.
    let _ = front::write(&header, &looks, key, |pieces| {
        ledger.keep(KeptFile::Front, pieces)
    });
    Ok(())
}

/// How the description's files are recognised; none when one is not what was read. `directives` gives the digest of
/// what each puts in.
fn files(
    description: &Description,
    environment: &RecordingEnvironment<'_>,
    directives: impl Fn(usize) -> Option<u64>,
) -> Option<Vec<KeptText>> {
    let files = description.files.iter().zip(description.sources.iter());
    let files = files.enumerate().map(|(index, (name, (_, source)))| {
        let read_at = environment.clock.now();
        let stat = environment.disk.stat(name).ok()??;
        let bytes = environment.disk.read(name).ok()?;
        let digest = Digest::of(&bytes);
        let record = (!stat.link).then(|| Record::new(&stat, read_at, digest));
        (bytes == source.text.as_bytes()).then(|| KeptText {
            name: name.clone(),
            record,
            digest,
            directives: directives(index),
        })
    });
    files.collect()
}
