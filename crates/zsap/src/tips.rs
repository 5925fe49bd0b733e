//! What people type who know other words for a command: each is told which one it is here.

use clap::error::{ContextKind, ContextValue};

use crate::args::help;

/// Other words, and the commands that do it.
const OTHER_WORDS: &[(&[&str], &[&str])] = &[
    (&["create", "new", "mk"], &["make", "derive"]),
    (&["delete", "del", "rm", "erase"], &["remove"]),
    (&["rename", "mv"], &["move"]),
    (&["clone", "cp", "convert", "export", "import", "duplicate", "backup"], &["copy"]),
    (&["info", "inspect", "describe", "stat"], &["show"]),
    (&["list", "ls"], &["show", "tree", "files list"]),
    (&["fork", "branch", "child", "differencing"], &["derive"]),
    (&["verify", "validate", "fsck", "scan", "test"], &["check"]),
    (&["fix", "mend"], &["repair"]),
    (&["recover", "rescue"], &["salvage"]),
    (&["snapshot", "snapshots", "snap"], &["checkpoint take", "checkpoint list"]),
    (&["revert", "rollback", "restore"], &["checkpoint revert"]),
    (&["forget", "prune"], &["checkpoint forget"]),
    (&["mount", "attach", "connect", "map", "loop"], &["expose", "serve"]),
    (&["export-nbd", "nbd", "share"], &["serve"]),
    (&["umount", "unmount", "eject", "disconnect", "unmap", "stop"], &["detach"]),
    (&["shrink", "grow", "extend", "expand", "enlarge", "truncate"], &["resize", "compact"]),
    (&["optimize", "optimise", "reclaim", "trim", "sparsify", "zerofree"], &["compact"]),
    (&["defrag", "defragment", "reorder"], &["compact --reorder"]),
    (&["format", "partition", "mkfs", "init", "initialize"], &["prepare"]),
    (&["flatten", "consolidate", "collapse", "squash"], &["merge", "copy"]),
    (&["reparent", "reconnect", "relocate"], &["relink", "transplant"]),
    (&["lock", "protect", "freeze"], &["pin"]),
    (&["unlock", "unprotect"], &["unpin"]),
    (&["thaw"], &["unfreeze"]),
    (&["continue", "finish"], &["resume"]),
    (&["cancel", "abort", "undo"], &["abandon", "repair --undo"]),
    (&["compare", "cmp"], &["diff"]),
    (&["parents", "chain"], &["tree"]),
    (&["dependents", "descendants"], &["children"]),
    (&["read", "write", "dd", "cat"], &["bytes read", "bytes write"]),
    (&["extract", "unpack"], &["files get"]),
    (&["find", "search"], &["files find"]),
    (&["uuid", "guid", "id"], &["identity"]),
    (&["man", "docs"], &["manual"]),
    (&["glossary", "terms"], &["words"]),
    (&["completion"], &["completions"]),
    (&["health", "df", "usage"], &["status"]),
    (&["machine", "vm"], &["grove"]),
];

/// What is wrong, and what may be typed instead, where another word for a command was typed.
pub(crate) fn told(error: &clap::Error) -> Option<String> {
    let Some(ContextValue::String(word)) = error.get(ContextKind::InvalidSubcommand) else { return None };
    let mut commands: Vec<String> = commands_for(word, std::env::args().nth(1).as_deref().unwrap_or_default());
    if commands.is_empty()
        && let Some(ContextValue::Strings(similar)) = error.get(ContextKind::SuggestedSubcommand)
    {
        // The last is the nearest.
        let before = std::env::args().skip(1).take_while(|typed| typed != word).filter(|typed| !typed.starts_with('-'));
        let before: Vec<String> = before.collect();
        commands.extend(
            similar.last().map(|similar| before.iter().chain([similar]).cloned().collect::<Vec<_>>().join(" ")),
        );
    }
    let told = commands.iter().zip(std::iter::once("next: ").chain(std::iter::repeat("or:   ")));
    let lines: String = told.map(|(command, lead)| format!("\n  {lead}`zsap {command}`{}", about(command))).collect();
    (!lines.is_empty()).then(|| format!("there is no command `{word}`{lines}"))
}

/// The commands that do what another word stands for; behind the first word of a command only those that begin so.
fn commands_for(word: &str, behind: &str) -> Vec<String> {
    let word = word.to_lowercase();
    let found = OTHER_WORDS.iter().filter(|(words, _)| words.contains(&&*word)).flat_map(|(_, commands)| *commands);
    let begins =
        |command: &&&str| behind == word || command.strip_prefix(behind).is_some_and(|rest| rest.starts_with(' '));
    found.filter(begins).map(|command| (*command).to_owned()).collect()
}

/// What a command does.
fn about(command: &str) -> String {
    let mut found = help::command();
    for word in command.split(' ').filter(|word| !word.starts_with('-')) {
        found = found.find_subcommand(word).cloned().unwrap_or(found);
    }
    let Some(about) = found.get_about().map(ToString::to_string) else { return String::new() };
    let (first, rest) = about.split_at_checked(1).unwrap_or_default();
    format!(": {}{rest}", first.to_lowercase())
}

#[cfg(test)]
mod tests {
    use clap::CommandFactory;

    use super::*;
    use crate::args::Args;

    #[test]
    fn each_tip_names_a_command_and_no_word_is_one() {
        for (words, commands) in OTHER_WORDS {
            for command in *commands {
                let mut found = Args::command();
                for word in command.split(' ').filter(|word| !word.starts_with('-')) {
                    found = found.find_subcommand(word).unwrap_or_else(|| panic!("{command}")).clone();
                }
            }
            for word in *words {
                assert!(Args::command().find_subcommand(word).is_none(), "{word}");
                assert_eq!(OTHER_WORDS.iter().filter(|(others, _)| others.contains(word)).count(), 1, "{word}");
            }
        }
    }
}
