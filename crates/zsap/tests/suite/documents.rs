//! Whatever any test has the command answer as JSON keeps to the published schema of that answer.

use std::path::Path;

use serde_json::{Value, json};

/// The schema that an answer keeps to, by what was typed.
fn schema_of(typed: &str) -> &'static str {
    let words: Vec<&str> = typed.split(' ').collect();
    let has = |word: &str| words.contains(&word);
    let command = words.iter().find(|word| !word.starts_with('-')).copied().unwrap_or_default();
    let paths = words.iter().filter(|word| !word.starts_with('-')).count() - 1;
    match command {
        "remove" | "pin" | "unpin" if paths > 1 && has("--plan") => "plan-several",
        "remove" if paths > 1 => "remove-several",
        "pin" if paths > 1 && has("--verify") => "pin-verify-several",
        "pin" if paths > 1 => "pin-several",
        "unpin" if paths > 1 => "unpin-several",
        "relink" if paths > 2 => "relink-several",
        "merge" if has("--plan") => "merge-plan",
        "checkpoint" if has("forget") && has("--plan") => "checkpoint-forget-plan",
        "repair" if has("--undo") && has("--plan") => "plan",
        "repair" if has("--plan") => "repair-plan",
        "repair" if has("--undo") => "repair-undo",
        "repair" => "repair",
        "salvage" if has("--plan") && has("--impact") => "salvage-plan",
        _ if has("--plan") => "plan",
        "pin" if has("--verify") => "pin-verify",
        "copy" if has("--depth") => "copy-chain",
        "copy" if has("--onto") => "copy-onto",
        "demo" => "tree",
        "abandon" => "abandon",
        "attachments" => "attachments",
        "bytes" => "bytes",
        "check" => "check",
        "checkpoint" if has("take") => "checkpoint-take",
        "checkpoint" if has("list") => "checkpoint-list",
        "checkpoint" if has("revert") => "checkpoint-revert",
        "checkpoint" if has("forget") => "checkpoint-forget",
        "checkpoint" => "checkpoint-note",
        "children" => "children",
        "compact" => "compact",
        "completions" => "completions",
        "copy" => "copy",
        "derive" => "derive",
        "detach" => "detach",
        "diff" => "diff",
        "expose" => "expose",
        "files" if has("get") => "files-get",
        "files" if has("diff") => "files-diff",
        "files" => "files-list",
        "grove" if has("new") => "grove-new",
        "grove" if has("add") => "grove-add",
        "grove" if has("list") => "grove-list",
        "grove" if has("release") => "grove-release",
        "grove" if has("copy") => "grove-copy",
        "grove" if has("remove") => "grove-remove",
        "grove" if has("rebuild") => "grove-rebuild",
        "identity" => "identity",
        "make" => "make",
        "manual" => "manual",
        "merge" => "merge",
        "move" => "move",
        "pin" => "pin",
        "prepare" => "prepare",
        "relink" => "relink",
        "remove" => "remove",
        "resize" => "resize",
        "resume" => "resume",
        "salvage" => "salvage",
        "serve" => "serve",
        "settings" => "settings",
        "show" => "show",
        "status" => "status",
        "transplant" => "transplant",
        "tree" => "tree",
        "unfreeze" => "unfreeze",
        "unpin" => "unpin",
        "words" => "words",
        other => panic!("{other} has no schema"),
    }
}

/// What a schema does not speak of is not there.
fn close(schema: &mut Value) {
    match schema {
        Value::Object(fields) => {
            fields.values_mut().for_each(close);
            if fields.contains_key("properties") && !fields.contains_key("$ref") {
                fields.insert("unevaluatedProperties".to_owned(), json!(false));
            }
        }
        Value::Array(items) => items.iter_mut().for_each(close),
        _ => {}
    }
}

pub fn fits(name: &str, document: &Value) {
    let place = Path::new(env!("CARGO_MANIFEST_DIR")).join(format!("../../docs/schema/{name}.json"));
    let mut schema: Value = serde_json::from_slice(&std::fs::read(place).unwrap()).unwrap();
    // A part that several documents have may stand among more fields than its own.
    // So does what happened at a server, beside when it did.
    if let Some(parts) = schema.get("$defs").cloned().filter(|_| name != "event") {
        schema.as_object_mut().unwrap().remove("$defs");
        close(&mut schema);
        schema["$defs"] = parts;
    }
    let validator = jsonschema::validator_for(&schema).unwrap();
    let wrong: Vec<String> =
        validator.iter_errors(document).map(|error| format!("{}: {error}", error.instance_path)).collect();
    assert!(wrong.is_empty(), "{name}: {wrong:#?}\n{document:#}");
}

/// One document on one of the two streams, and nothing else.
pub fn assert_fit(typed: &str, status: i32, out: &str, err: &str) {
    // Of several paths some may fail; the answer names them.
    if [0, 3, 5].contains(&status) || !out.is_empty() {
        assert_eq!(err, "", "{typed}");
        // Bytes that were asked for without a file are no document.
        let document = serde_json::from_str(out).unwrap_or_else(|error| panic!("{typed}: {error}\n{out}"));
        fits(schema_of(typed), &document);
    } else {
        assert_eq!(out, "", "{typed}");
        fits("error", &serde_json::from_str(err).unwrap_or_else(|error| panic!("{typed}: {error}\n{err}")));
    }
}
