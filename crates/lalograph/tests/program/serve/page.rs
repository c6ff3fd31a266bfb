//! page
