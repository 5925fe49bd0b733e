//! The JSON Schemas in `docs/schema` are those of the types that the documents are written from.

use schemars::generate::SchemaSettings;
use schemars::{JsonSchema, Schema};
use serde_json::{Value, json};
use zestful_sapling::family::{Children, Report};
use zestful_sapling::{grove, ops, repair};

use super::compact::Compacted;
use super::events::{Advanced, Exposed, Line, Served};
use super::files::{FilesCompared, FilesListed, TakenOut};
use super::json::{
    AttachedDisks, BothWays, BytesMoved, Checked, Detached, Differs, ErrorDocument, FolderStatus, ForgetPlanned, Grown,
    PinVerified, RepairPlanned, SavePlanned, Saved, Shown, Tree,
};
use super::learning::{Glossary, Pages, Script, SettingsTold};
use super::resize::{GrownAttached, Resized};
use super::several::Several;
use super::volumes::Prepared;
use crate::console::SCHEMA_VERSION;

/// The schema of a document: the type's, with what every document has.
fn schema_of<T: JsonSchema>(title: &str) -> Value {
    let schema: Schema = SchemaSettings::draft2020_12().for_serialize().into_generator().into_root_schema_for::<T>();
    let mut schema = schema.to_value();
    let object = schema.as_object_mut().unwrap();
    object.insert("title".to_owned(), title.into());
    let mut add = |name: &str, what: Value| {
        let properties = object.entry("properties").or_insert_with(|| json!({})).as_object_mut().unwrap();
        if properties.insert(name.to_owned(), what).is_none() {
            let required = object.entry("required").or_insert_with(|| json!([])).as_array_mut().unwrap();
            required.push(name.into());
        }
    };
    let version = "The form of all documents; it rises when a name or a type changes.";
    add("schema_version", json!({ "description": version, "const": SCHEMA_VERSION }));
    let warnings = "What the plan had to say beforehand.";
    add("warnings", json!({ "description": warnings, "type": "array", "items": { "type": "string" } }));
    schema
}

macro_rules! documents {
    ($($name:literal: $type:ty,)+) => {
        [$(($name, schema_of::<$type>(concat!("zsap: ", $name)))),+]
    };
}

#[test]
fn the_schemas_are_current() {
    let documents = documents! {
        "abandon": repair::Abandoned,
        "attachments": AttachedDisks,
        "bytes": BytesMoved,
        "check": Checked<'_>,
        "checkpoint-forget": grove::ForgetOutcome,
        "checkpoint-forget-plan": ForgetPlanned<'_>,
        "checkpoint-list": grove::CheckpointList,
        "checkpoint-note": grove::DescribeCheckpointOutcome,
        "checkpoint-revert": grove::RevertOutcome,
        "checkpoint-take": grove::TakeOutcome,
        "children": Children,
        "compact": Compacted<'_>,
        "completions": Script,
        "copy": ops::NewDiskOutcome,
        "copy-chain": ops::CopyChainOutcome,
        "copy-onto": ops::CopyOntoOutcome,
        "derive": Grown,
        "detach": Detached,
        "diff": Differs<'_>,
        "error": ErrorDocument,
        "event": Line<'_>,
        "expose": Exposed,
        "files-diff": FilesCompared,
        "files-get": TakenOut,
        "files-list": FilesListed,
        "grove-add": grove::AddDiskOutcome,
        "grove-copy": grove::CopyGroveOutcome,
        "grove-list": grove::GroveReport,
        "grove-new": grove::GroveOutcome,
        "grove-rebuild": grove::RebuildOutcome,
        "grove-remove": grove::RemoveGroveOutcome,
        "grove-release": grove::ReleaseDiskOutcome,
        "identity": ops::FreshIdentityOutcome,
        "make": Report,
        "manual": Pages,
        "merge": ops::MergeOutcome,
        "merge-plan": BothWays<'_>,
        "move": ops::MoveOutcome,
        "pin": ops::PinOutcome,
        "pin-several": Several<ops::PinOutcome>,
        "pin-verify": PinVerified<'_>,
        "pin-verify-several": Several<PinVerified<'_>>,
        "plan": ops::Plan,
        "plan-several": Several<ops::Plan>,
        "prepare": Prepared,
        "progress": Advanced,
        "relink": ops::RelinkOutcome,
        "relink-several": Several<ops::RelinkOutcome>,
        "remove": ops::RemoveOutcome,
        "remove-several": Several<ops::RemoveOutcome>,
        "repair": repair::RepairOutcome,
        "repair-plan": RepairPlanned<'_>,
        "repair-undo": repair::UndoRepairOutcome,
        "resize": Resized<'_>,
        "resize-attached": GrownAttached,
        "resume": repair::Resumed,
        "salvage": Saved<'_>,
        "salvage-plan": SavePlanned<'_>,
        "serve": Served,
        "settings": SettingsTold,
        "show": Shown<'_>,
        "status": FolderStatus<'_>,
        "transplant": ops::TransplantOutcome,
        "tree": Tree<'_>,
        "unfreeze": ops::UnfreezeOutcome,
        "unpin": ops::UnpinOutcome,
        "unpin-several": Several<ops::UnpinOutcome>,
        "words": Glossary,
    };
    let folder = std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs/schema");
    let mut old: Vec<&str> = Vec::new();
    for (name, schema) in &documents {
        let (place, text) = (folder.join(format!("{name}.json")), format!("{schema:#}\n"));
        if std::env::var_os("ZSAP_WRITE_DOCS").is_some() {
            std::fs::create_dir_all(&folder).unwrap();
            std::fs::write(&place, &text).unwrap();
        }
        old.extend((std::fs::read_to_string(&place).unwrap_or_default() != text).then_some(name));
    }
    assert!(old.is_empty(), "{old:?} are old: run the tests with ZSAP_WRITE_DOCS=1 to write them anew");
    assert_eq!(std::fs::read_dir(folder).unwrap().count(), documents.len());
}
