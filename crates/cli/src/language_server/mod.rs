//! `handloom language-server`: answers an editor on standard input and output, in the Language Server Protocol 3.17. It reads what
//! is open and not saved, and writes nothing; it runs what somebody asks it to, and nothing of itself.

mod answers;
mod capabilities;
mod card;
mod checker;
mod completion;
mod completion_words;
mod goals;
mod hints;
mod hover;
mod jobs;
mod matched;
mod name_queries;
mod names;
mod outlook;
mod overlay;
mod positions;
mod project_text;
mod requests;
mod results;
mod server;
mod tokens;

pub use project_text::CheckDepth;
pub use project_text::ProjectText;

use std::process::ExitCode;
use std::time::Duration;

use crossbeam_channel::at;
use crossbeam_channel::never;
use crossbeam_channel::select;
use crossbeam_channel::tick;
use crossbeam_channel::unbounded;
use lsp_server::Connection;
use lsp_server::Message;
use serde_json::json;

use crate::failure::CommandError;
use crate::language_server::capabilities::ClientAbilities;
use crate::language_server::capabilities::capabilities;
use crate::language_server::server::Server;

/// What is wrong is told once nothing has been typed for so long; where a check takes longer, for as long as that.
const QUIET: Duration = Duration::from_millis(120);

/// No more is waited for, however long checks take.
const MOST_QUIET: Duration = Duration::from_secs(3);

/// So often it is looked whether a run has ended somewhere.
const LOOK: Duration = Duration::from_secs(1);

/// Serves until the editor says that it is over, or is gone.
pub fn run() -> Result<ExitCode, CommandError> {
    let (connection, threads) = Connection::stdio();
    let is_well = match begin(&connection) {
        Some(client) => serve(&connection, client),
        None => false,
    };
    drop(connection);
    // What can't be written any more has nobody who reads it.
    let _ = threads.join();
    Ok(ExitCode::from(u8::from(!is_well)))
}

/// Tells the editor what is answered; what it can do itself.
fn begin(connection: &Connection) -> Option<ClientAbilities> {
    let (id, params) = connection.initialize_start().ok()?;
    let answer = json!({
        "capabilities": capabilities(),
        "serverInfo": {"name": "handloom", "version": env!("CARGO_PKG_VERSION")},
    });
    connection.initialize_finish(id, answer).ok()?;
    Some(ClientAbilities::of(&params))
}

/// Whether the editor said goodbye.
fn serve(connection: &Connection, client: ClientAbilities) -> bool {
    let (ask, asked) = unbounded();
    let (tell, told) = unbounded();
    let checker = std::thread::Builder::new().name("checks".to_owned());
    if checker
        .spawn(move || checker::serve(&asked, &tell))
        .is_err()
    {
        return false;
    }
    let mut server = Server::new(client, connection.sender.clone(), ask);
    let looks = tick(LOOK);
    loop {
        // From the last change: questions that come meanwhile do not put it off.
        let quiet = match server.unchecked_since() {
            None => never(),
            Some(since) => at(since + server.last_check.clamp(QUIET, MOST_QUIET)),
        };
        let is_alive = select! {
            recv(connection.receiver) -> message => match message {
                Err(_) => false,
                Ok(Message::Notification(notification)) => server.heed(notification),
                Ok(Message::Response(_)) => true,
                Ok(Message::Request(request)) => match connection.handle_shutdown(&request) {
                    Ok(true) => return true,
                    Ok(false) => server.answer(request),
                    Err(_) => false,
                },
            },
            recv(told) -> told => told.is_ok_and(|told| server.take(told)),
            recv(quiet) -> _ => server.check_changed(),
            recv(looks) -> _ => server.look_for_runs(),
        };
        if !is_alive {
            return false;
        }
    }
}
