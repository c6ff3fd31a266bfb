//! Files: written whole beside their place and renamed into it.

pub mod files;
