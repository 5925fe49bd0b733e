//! What may be forced: `--force=WHAT`.

use clap::builder::{PossibleValue, PossibleValuesParser, TypedValueParser};
use zestful_sapling::family::Override;

/// What may be forced, and what that goes over.
const OVERRIDES: [(&str, Override, &str); 14] = [
    ("ending", Override::Ending, "A format that the file's ending contradicts"),
    ("sectors", Override::Sectors, "Sectors of another size under a partition table"),
    ("not-blank", Override::NotBlank, "A disk that is not blank, whose content is lost"),
    ("identity", Override::Identity, "A parent that is not the one recorded"),
    (
        "unknown-children",
        Override::UnknownChildren,
        "Images that may have grown from it, and are not to be found or read",
    ),
    ("unrecorded-child", Override::UnrecordedChild, "A parent that cannot record who grows from it"),
    ("in-use", Override::InUse, "An image, or a source, that another process has open for writing"),
    ("hard-links", Override::HardLinks, "A file that has other names"),
    ("saved-state", Override::SavedState, "A disk that a suspended machine goes on from"),
    ("attributes", Override::Attributes, "A file that does not get all that the one before it has"),
    ("other-host", Override::OtherHost, "What another host began"),
    ("cut-partition", Override::CutPartition, "A smaller disk that cuts a partition, or what fills the disk"),
    ("reserved-space", Override::ReservedSpace, "A fixed disk that gives up space set aside for it"),
    ("discard-data", Override::DiscardData, "A smaller disk that loses what nothing tells the owner of"),
];

/// What may be forced on work that spans several files.
pub(crate) const WORK: &[&str] =
    &["unknown-children", "unrecorded-child", "in-use", "hard-links", "saved-state", "other-host"];

/// What is typed after `--force=` for an override.
pub(crate) fn name_of_override(allowed: Override) -> Option<&'static str> {
    OVERRIDES.iter().find(|(_, known, _)| *known == allowed).map(|(name, ..)| *name)
}

/// Those of the overrides that a command knows.
pub(crate) fn overrides(names: &'static [&'static str]) -> impl TypedValueParser<Value = Override> {
    let known = OVERRIDES.iter().filter(|(name, ..)| names.contains(name));
    let values = known.map(|(name, _, help)| PossibleValue::new(*name).help(*help));
    PossibleValuesParser::new(values.collect::<Vec<_>>()).try_map(|chosen| {
        let found = OVERRIDES.iter().find(|(name, ..)| *name == chosen).map(|(_, allowed, _)| *allowed);
        found.ok_or("no such override")
    })
}

#[cfg(test)]
mod tests {
    use clap::Parser;

    use super::*;
    use crate::args::{Args, Command};

    /// What is typed is what is meant: the library calls each override by the same name.
    #[test]
    fn what_is_forced_is_what_was_typed() {
        let name = |allowed: &Override| serde_json::to_value(allowed).unwrap();
        for (typed, allowed, _) in OVERRIDES {
            assert_eq!(name(&allowed), typed);
        }
        let typed = ["unknown-children", "unrecorded-child", "in-use", "hard-links", "saved-state", "other-host"];
        let forced = format!("--force={}", typed.join(","));
        let Command::Merge(merge) = Args::try_parse_from(["zsap", "merge", "a.vhdx", &forced]).unwrap().command else {
            panic!("no merge");
        };
        assert_eq!(merge.options.force.iter().map(name).collect::<Vec<_>>(), typed);
    }
}
