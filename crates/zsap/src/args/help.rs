//! The command as its users are told of it: with examples, and in groups by what commands are for.

use clap::{Command, CommandFactory};

use super::Args;
use super::examples::EXAMPLES;
use super::groups::GROUPS;
use crate::glossary;

/// All that can be typed, with all that help says of it.
pub(crate) fn command() -> Command {
    let command = with_examples(Args::command(), "");
    let words = glossary::lines(str::to_owned).join("\n");
    let command = command.mut_subcommand("words", |told| told.help_template("{after-help}\n").after_help(words));
    let (groups, header) = (groups(&command), *command.get_styles().get_header());
    command.help_template(format!(
        "{{about-with-newline}}\n{{usage-heading}} {{usage}}\n\n{groups}\n{header}Options:{header:#}\n{{options}}"
    ))
}

/// Gives a command, whose words are these, and all below it their examples.
fn with_examples(command: Command, words: &str) -> Command {
    let names: Vec<String> = command.get_subcommands().map(|sub| sub.get_name().to_owned()).collect();
    let command = names.iter().fold(command, |command, name| {
        command.mut_subcommand(name, |sub| with_examples(sub, format!("{words} {name}").trim_start()))
    });
    match EXAMPLES.iter().find(|(found, _)| *found == words) {
        Some((_, examples)) => {
            let told = told(&command, examples);
            command.after_help(told)
        }
        None => command,
    }
}

fn told(command: &Command, examples: &[(&str, &str)]) -> String {
    let header = command.get_styles().get_header();
    let told = examples.iter().map(|(typed, does)| format!("\n  # {does}\n  zsap {typed}"));
    format!("{header}Examples:{header:#}{}", told.collect::<String>())
}

/// The commands below their headings.
fn groups(command: &Command) -> String {
    let about = |name: &str| match command.find_subcommand(name).and_then(Command::get_about) {
        Some(about) => about.to_string(),
        None => "The help of a command; `help words` tells what the words mean".to_owned(),
    };
    let (header, literal) = (command.get_styles().get_header(), command.get_styles().get_literal());
    let told = |(heading, names): &(&str, &[&str])| {
        let lines = names.iter().map(|name| format!("  {literal}{name:<12}{literal:#} {}\n", about(name)));
        format!("{header}{heading}:{header:#}\n{}", lines.collect::<String>())
    };
    GROUPS.iter().map(told).collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use clap::Parser;

    /// All commands, by their words.
    fn all(command: &Command, words: &str, found: &mut Vec<String>) {
        for sub in command.get_subcommands().filter(|sub| !sub.is_hide_set()) {
            let words = format!("{words} {}", sub.get_name()).trim_start().to_owned();
            all(sub, &words, found);
            found.push(words);
        }
    }

    #[test]
    fn every_command_has_its_group_and_examples_that_can_be_typed() {
        let (mut found, all_commands) = (Vec::new(), Args::command());
        all(&Args::command(), "", &mut found);
        for words in &found {
            let group = GROUPS.iter().filter(|(_, names)| names.contains(&words.as_str())).count();
            assert_eq!(group, usize::from(!words.contains(' ')), "{words}");
            let about = words.split(' ').try_fold(&all_commands, |found, word| found.find_subcommand(word)).unwrap();
            let most = if words.contains(' ') { 68 } else { 65 };
            assert!(about.get_about().unwrap().to_string().len() <= most, "{words}: its line is wider than 80 columns");
            let examples = EXAMPLES.iter().find(|(name, _)| name == words);
            assert!(examples.is_some_and(|(_, examples)| (2..=3).contains(&examples.len())), "{words}");
        }
        assert_eq!(EXAMPLES.len(), found.len());
        for (words, examples) in EXAMPLES {
            for (typed, _) in *examples {
                assert!(typed.starts_with(words) || typed.starts_with("help"), "{typed}");
                let line = typed.split(" > ").next().unwrap_or_default();
                let parsed = Args::try_parse_from(shlex::split(&format!("zsap {line}")).unwrap());
                let is_help = parsed.as_ref().is_err_and(|error| error.kind() == clap::error::ErrorKind::DisplayHelp);
                assert!(parsed.is_ok() || is_help, "{typed}: {}", parsed.err().unwrap());
            }
        }
    }

    /// Nothing that help says is wider than a terminal of 80 columns where it cannot be broken.
    #[test]
    fn examples_are_narrow() {
        for (_, examples) in EXAMPLES {
            for (typed, does) in *examples {
                assert!(typed.len() <= 73 && does.len() <= 76, "{typed}");
            }
        }
    }
}
