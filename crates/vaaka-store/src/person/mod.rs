//! People, what they may do, and what they are told.

pub mod keys;
pub mod notices;
pub mod people;
pub mod second_look;
pub mod sessions;
pub mod sign_ins;
pub mod trainings;
