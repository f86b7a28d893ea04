//! Opening a project for whoever asks: commands, an editor's server, tests. No argument parsing, no printing.

pub mod places;
mod project_settings;
pub mod settings;
pub mod store_settings;

mod approach;
mod circumstances;
mod error;
mod location;
mod lock;
mod open;
mod options;
mod outside;
mod own_folder;
mod trust;
mod user;

pub use approach::Approach;
pub use approach::user_store;
pub use circumstances::FindCircumstances;
pub use error::WorkspaceError;
pub use location::ProjectLocation;
pub use lock::ProjectLock;
pub use open::Note;
pub use open::Workspace;
pub use options::Access;
pub use options::OpenOptions;
pub use own_folder::OWN;
pub use project_settings::ProjectSettings;
pub use project_settings::setting_choices;
pub use project_settings::setting_names;
pub use settings::Settings;
pub use user::UserFolders;
