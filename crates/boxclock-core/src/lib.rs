//! The job of Box Clock, without any interface.
//!
//! A [`case::Case`] is opened from boxes, folders or files; its [`case::Loader`] reads all sources into an
//! [`event::Table`] in merged order; a [`query::Filter`] selects rows; [`code`] explains numbers; the
//! [`logbook::Logbook`] keeps what people add; [`report`] writes things down; [`gather`] seals and checks boxes.
//!
//! ```no_run
//! use boxclock_core::case::{Case, Options};
//! use boxclock_core::work::Work;
//!
//! let work = Work::default();
//! let case = Case::open(&["/var/log".into()], Options::default(), &work)?;
//! let loaded = case.load(&work)?;
//! println!("{} events of {} sources", loaded.table.len(), case.sources.len());
//! # Ok::<(), boxclock_core::Error>(())
//! ```

pub mod analysis;
pub mod cache;
pub mod card;
pub mod case;
pub mod cause;
pub mod choice;
pub mod clock;
pub mod code;
pub mod compare;
pub mod container;
pub mod coverage;
pub mod crash;
pub mod decode;
mod error;
pub mod event;
pub mod facts;
pub mod files;
pub mod format;
pub mod gather;
pub mod install;
pub mod knot;
pub mod limits;
pub mod logbook;
pub mod new_file;
pub mod pattern;
pub mod platform;
mod plural;
pub mod query;
pub mod receive;
pub mod report;
pub mod resource;
pub mod severity;
pub mod shelf;
pub mod source;
pub mod summaries;
#[doc(hidden)]
pub mod testing;
pub mod text;
pub mod timeline;
pub mod trace;
pub mod trail;
pub mod trouble;
pub mod verify;
pub mod visible;
pub mod work;

pub use error::{Error, Result};
pub use plural::many;
pub use visible::visible;
