//! Who may call a route.

/// Who may call a route.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Access {
    /// Anybody, signed in or not.
    Everybody,
    /// Anybody who is signed in, and other programs by their key.
    Program,
    /// Bench PCs that read instruments, by their key.
    Station,
    /// Anybody who is signed in; auditors read, too.
    SignedIn,
    /// Those who run checks: technicians and leads.
    Bench,
    /// Leads.
    Lead,
    /// Administrators.
    Administrator,
}
