//! Files that are complete or absent, whatever fails.
//!
//! Everything that is written goes through [`Storage`]. [`Disk`] is the real one. [`FailingDisk`] counts what is asked of it, fails or
//! stops at any operation, and then shows what a disk would hold after a lost process or a lost power supply: tests open that.
//!
//! The rooms: [`storage`], what a storage must do; [`disk`] and [`failing`], the two that there are; [`folder`], an open folder with
//! its path; [`whole`], single files; [`set`], files that belong together.
//!
//! ```
//! use lalograph_storage::{Disk, Existing, write_whole};
//!
//! let folder = tempfile::tempdir()?;
//! let path = folder.path().join("letters.txt");
//! write_whole(&Disk, &path, b"the hive hums", Existing::Keep)?;
//! assert_eq!(std::fs::read(&path)?, b"the hive hums");
//! assert!(write_whole(&Disk, &path, b"another", Existing::Keep).is_err());
//! # Ok::<(), Box<dyn std::error::Error>>(())
//! ```

pub mod disk;
mod error;
pub mod failing;
pub mod folder;
pub mod set;
pub mod storage;
pub mod whole;

pub use disk::Disk;
pub use error::StorageError;
pub use failing::FailingDisk;
pub use folder::Folder;
pub use set::FileSet;
pub use storage::{Existing, Storage};
pub use whole::{WholeFile, WholeWriter, write_whole};
