//! What people and workers do.

pub(crate) mod actions;
pub(crate) mod adopt;
pub(crate) mod clear;
pub(crate) mod clear_fitting;
pub(crate) mod clear_folders;
pub(crate) mod clear_rules;
pub(crate) mod cleared;
pub(crate) mod configure;
pub(crate) mod door;
pub(crate) mod fetch;
pub(crate) mod leases;
pub(crate) mod reload;

pub use actions::{Done, EntryAction, How, PriorWork, Refused};
pub use adopt::{Adoption, LeftFile};
pub use clear_rules::ClearView;
pub use cleared::{Cleared, ClearedFile, StayingFile};
pub use configure::new_gate::{FolderFile, FolderName, FolderView, GateProposal, PatternProposal};
pub use configure::types::{
    ConfigFault, ConfigFile, ConfigureError, EditedFile, FileChange, SavedConfig, TriedConfig,
};
pub use door::receiving::Receiving;
pub use door::types::{DoorError, HandedInFile, NewUpload, UploadView};
pub use leases::{Offered, WorkerEnd};
pub use reload::Reloaded;
