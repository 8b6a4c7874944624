//! What somebody would try who wants a failure to disappear, a clock to lie or a door to open.

mod ages;
mod passwords;
mod two_hands;
mod voiding;
