//! The documents of the commands that help to learn the others.

use schemars::JsonSchema;
use serde::Serialize;
use zestful_sapling::path_data::PathData;

use crate::glossary::WORDS;

/// The script of a shell.
#[derive(Serialize, JsonSchema)]
pub(crate) struct Script {
    /// What the shell loads.
    pub(crate) script: String,
}

/// The pages that were written.
#[derive(Serialize, JsonSchema)]
pub(crate) struct Pages {
    /// The folder.
    pub(crate) folder: PathData,
    /// The pages in it.
    pub(crate) pages: Vec<String>,
}

/// The words and what they mean.
#[derive(Serialize, JsonSchema)]
pub(crate) struct Glossary {
    /// In the order in which they explain each other.
    words: Vec<Meaning>,
}

/// A word.
#[derive(Serialize, JsonSchema)]
struct Meaning {
    /// The word, or several that go together.
    word: &'static str,
    /// What it means.
    meaning: &'static str,
}

impl Glossary {
    pub(crate) fn whole() -> Self {
        Self { words: WORDS.iter().map(|&(word, meaning)| Meaning { word, meaning }).collect() }
    }
}

/// What is set once for all commands.
#[derive(Serialize, JsonSchema)]
pub(crate) struct SettingsTold {
    /// The files that may hold settings; a later one wins.
    pub(crate) files: Vec<SettingsFile>,
    /// Each setting.
    pub(crate) settings: Vec<Setting>,
}

/// A file that may hold settings.
#[derive(Serialize, JsonSchema)]
pub(crate) struct SettingsFile {
    /// The file.
    pub(crate) path: PathData,
    /// Whether it is there, and goes.
    pub(crate) is_used: bool,
    /// Why it is left out.
    pub(crate) problem: Option<String>,
}

/// A setting.
#[derive(Serialize, JsonSchema)]
pub(crate) struct Setting {
    /// As it is written in a file, its section before it.
    pub(crate) name: &'static str,
    /// Its value; null where there is none.
    pub(crate) value: Option<String>,
    /// The file that sets it; null for what holds where none does.
    pub(crate) from: Option<PathData>,
}
