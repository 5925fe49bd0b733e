//! The commands by what they are for, as the first help lists them.

/// Each group's heading, and its commands.
pub(super) const GROUPS: &[(&str, &[&str])] = &[
    ("Look", &["status", "show", "tree", "children", "diff", "files", "bytes"]),
    ("Make and copy", &["make", "derive", "copy", "prepare"]),
    ("Change", &["resize", "compact", "merge", "transplant", "move", "remove", "identity"]),
    ("Keep safe", &["check", "repair", "salvage", "relink", "pin", "unpin", "unfreeze", "resume", "abandon"]),
    ("Machines", &["grove", "checkpoint"]),
    ("Attach", &["serve", "expose", "attachments", "detach"]),
    ("Learn", &["demo", "words", "settings", "completions", "manual", "help"]),
];
