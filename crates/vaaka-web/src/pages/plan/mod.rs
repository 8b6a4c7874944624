//! Plans: the list, a version, its editor.

pub mod editor;
pub mod form;
pub mod list;
