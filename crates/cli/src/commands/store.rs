//! `handloom store`: what the store of results holds and saved, and making room in it.

use std::process::ExitCode;

use serde::Serialize;

use handloom_core::store::Collected;
use handloom_core::store::Counts;
use handloom_core::store::Holdings;
use handloom_core::store::ObjectFolder;
use handloom_core::store::empty;
use handloom_core::store::holdings;
use handloom_core::store::recount;
use handloom_core::store::shared::without_credentials;
use handloom_core::store::trim;
use handloom_core::workspace::store_settings::StoreSettings;
use handloom_core::workspace::user_store;
use handloom_core::world::Clock;
use handloom_core::world::SystemClock;
use handloom_core::world::rounded_seconds;

use crate::arguments::Format;
use crate::arguments::StoreArguments;
use crate::commands::clean::confirm;
use crate::commands::clean::is_attended;
use crate::failure::CommandError;
use crate::project;
use crate::ui::Ui;
use crate::ui::style::Role;
use crate::ui::text;

#[derive(Serialize)]
struct StoreJson {
    folder: String,
    used: bool,
    results: usize,
    files: usize,
    bytes: u64,
    most: u64,
    oldest: Option<String>,
    restored: u64,
    from_shared: u64,
    kept: u64,
    saved_seconds: f64,
    shared: Option<String>,
    shares: bool,
    #[serde(skip_serializing_if = "Option::is_none")]
    removed: Option<RemovedJson>,
}

#[derive(Serialize)]
struct RemovedJson {
    objects: usize,
    bytes: u64,
}

/// Carries the command out.
pub fn run(arguments: &StoreArguments, ui: Ui) -> Result<ExitCode, CommandError> {
    let user = project::user();
    let settings = user_store(&user)?;
    let Some(folder) = settings.folder(user.store()) else {
        return Err(CommandError::usage(
            "there is no place for a store: neither XDG_CACHE_HOME nor HOME is set",
            "set `store.folder` in your settings, or `HANDLOOM_STORE_FOLDER`",
        ));
    };
    let store = ObjectFolder::below(&folder);
    let removed = match (arguments.trim, arguments.empty) {
        (_, true) => {
            let held = holdings(&store);
            if !arguments.yes && is_attended() && held.results > 0 && !may_empty(&held)? {
                ui.print("nothing was removed\n")?;
                return Ok(ExitCode::SUCCESS);
            }
            Some(empty(&store))
        }
        (true, false) => Some(trim(&store, settings.size(), SystemClock::default().now())),
        (false, false) => None,
    };
    let (held, counts) = (holdings(&store), Counts::read(&store));
    if removed.is_some() {
        recount(&store, held.size)
            .map_err(|error| CommandError::io("can't write to the store", error))?;
    }
    match arguments.format {
        Format::Json => ui.print_json(&json(
            &folder.display().to_string(),
            &settings,
            &held,
            &counts,
            removed,
        ))?,
        Format::Text => {
            let text = told(
                &folder.display().to_string(),
                &settings,
                &held,
                &counts,
                removed,
                ui,
            );
            ui.print(&text)?;
        }
    }
    Ok(ExitCode::SUCCESS)
}

fn may_empty(held: &Holdings) -> Result<bool, CommandError> {
    confirm(&format!(
        "the store holds {}, {}, of all your projects; take them away? [y/N] ",
        text::count(held.results, "result"),
        text::bytes(held.size)
    ))
}

fn json(
    folder: &str,
    settings: &StoreSettings,
    held: &Holdings,
    counts: &Counts,
    removed: Option<Collected>,
) -> StoreJson {
    StoreJson {
        folder: folder.to_owned(),
        used: settings.is_used(),
        results: held.results,
        files: held.files,
        bytes: held.size.bytes(),
        most: settings.size().bytes(),
        oldest: held.oldest.map(|oldest| text::started(oldest).iso),
        restored: counts.restored,
        from_shared: counts.from_shared,
        kept: counts.kept,
        saved_seconds: rounded_seconds(counts.saved()),
        shared: settings.shared.as_deref().map(without_credentials),
        shares: settings.is_shared_to(),
        removed: removed.map(|removed| RemovedJson {
            objects: removed.objects,
            bytes: removed.size.bytes(),
        }),
    }
}

fn told(
    folder: &str,
    settings: &StoreSettings,
    held: &Holdings,
    counts: &Counts,
    removed: Option<Collected>,
    ui: Ui,
) -> String {
    let mut rows = vec![(
        "holds",
        format!(
            "{} and {}, {} of at most {}",
            text::count(held.results, "result"),
            text::count(held.files, "file"),
            text::bytes(held.size),
            settings.size_text()
        ),
    )];
    if let Some(oldest) = held.oldest {
        rows.push((
            "longest unused",
            format!("since {}", text::started(oldest).plain),
        ));
    }
    let restored = usize::try_from(counts.restored).unwrap_or(usize::MAX);
    let mut saved = format!(
        "{}, which saved {}",
        text::count(restored, "step"),
        text::seconds(counts.saved())
    );
    if counts.from_shared > 0 {
        saved.push_str(&format!("; {} from the shared store", counts.from_shared));
    }
    rows.push(("restored", saved));
    if let Some(shared) = &settings.shared {
        let how = if settings.is_shared_to() {
            "results are put there too"
        } else {
            "results are only taken from there"
        };
        rows.push(("shared", format!("{} ({how})", without_credentials(shared))));
    }
    if let Some(removed) = removed {
        rows.push((
            "removed",
            format!(
                "{}, {}",
                text::count(removed.objects, "object"),
                text::bytes(removed.size)
            ),
        ));
    }
    let mut out = format!("{}\n", ui.out.paint(Role::Name, &text::safe(folder)));
    if !settings.is_used() {
        out.push_str("  `store.use` is `never`: nothing is taken from it, and nothing kept\n");
    }
    for (name, value) in rows {
        let name = ui.out.paint(Role::Faint, &format!("{name:<14}"));
        out.push_str(&format!("  {name}  {}\n", text::safe(&value)));
    }
    out
}
