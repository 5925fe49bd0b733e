//! What the words mean that the command uses, in the README's words.

use crate::report::text;

/// A word, and what it means.
pub(crate) const WORDS: &[(&str, &str)] = &[
    ("disk", "what a guest sees: so many bytes, its virtual size. It may be kept in one image or in a chain of them."),
    ("image", "a file that holds a disk, or a part of it: raw, vhd or vhdx."),
    (
        "fixed, dynamic",
        "a fixed image has a place in its file for every byte of the disk; a dynamic one grows as the \
        guest writes.",
    ),
    (
        "child, parent, base",
        "a child (a differencing image) holds only what differs from its parent; where it holds \
        nothing, the parent is read. The base is the last parent, which has none itself.",
    ),
    ("chain, layer", "an image with all that it reads through is a chain; each image in it is a layer."),
    ("current image", "the layer that the guest writes to. Nothing grows from it."),
    ("frozen", "a layer that others read through. It must not change, and is read-only on this host."),
    ("pinned", "a base that was marked as never to change, with digests that prove it."),
    ("identity", "what a guest knows the disk by. It stays when the content changes."),
    (
        "data id",
        "the number that a child keeps of its parent. It changes with the parent's content, so that a child \
        of what was before does not read wrong data.",
    ),
    (
        "block",
        "the piece in which an image takes space, such as 2 MiB. A block that the image does not hold is read \
        from its parent, or as zeros.",
    ),
    ("grove", "a machine's folder: its disks, their roles and their checkpoints."),
    ("checkpoint", "what all tracked disks of a machine held at one moment."),
    ("on the host", "the space that a file really takes, whatever its length."),
    ("unfinished", "work that was cut short, such as a merge. The disk reads as before; `resume` carries on."),
];

/// The glossary for people, a paragraph a word.
pub(crate) fn lines(strong: impl Fn(&str) -> String) -> Vec<String> {
    let told = |(word, meaning): &(&str, &str)| {
        let text = text::wrapped(&format!("{word}: {meaning}"), "  ");
        text.replacen(word, &strong(word), 1)
    };
    WORDS.iter().map(told).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    /// The README and the documents have the same words.
    #[test]
    fn the_readme_has_the_same_words() {
        let readme = include_str!("../../../README.md");
        let missing: Vec<_> = WORDS
            .iter()
            .map(|(word, meaning)| {
                format!("| **{word}** | {} |", meaning.split_whitespace().collect::<Vec<_>>().join(" "))
            })
            .filter(|row| !readme.contains(row.as_str()))
            .collect();
        assert!(missing.is_empty(), "these rows are not in the README:\n{}", missing.join("\n"));
    }
}
