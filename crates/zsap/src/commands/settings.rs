//! `zsap settings`: what is set once for all commands, and where.

use std::path::Path;

use zestful_sapling::grove::Limits;
use zestful_sapling::size::format_size;

use crate::console::Console;
use crate::exit::{Failure, Outcome};
use crate::report::learning::{Setting, SettingsFile, SettingsTold};
use crate::report::table::Table;
use crate::report::text;
use crate::settings::{Loaded, Settings, current};

pub(super) fn run(console: &Console) -> Result<Outcome, Failure> {
    let loaded = current();
    let told = SettingsTold { files: files(loaded), settings: settings(loaded) };
    let mut table = Table::new(&["setting", "value", "set in"]);
    for Setting { name, value, from } in &told.settings {
        let from = from.as_ref().map_or_else(|| "nowhere".to_owned(), |from| text::path(&from.to_path()));
        table.row(vec![(*name).to_owned(), text::safe(value.as_deref().unwrap_or("-")), from]);
    }
    let mut lines = table.lines(console);
    for source in &loaded.sources {
        let state = match &source.read {
            Ok(Some(_)) => "read".to_owned(),
            Ok(None) => "not there".to_owned(),
            Err(why) => format!("{}: {}", console.alarming("left out"), text::safe(why)),
        };
        lines.push(text::wrapped(&format!("  {}: {state}", text::path(&source.path)), "    "));
    }
    console.answer(&told, lines)?;
    Ok(Outcome::Done)
}

fn files(loaded: &Loaded) -> Vec<SettingsFile> {
    let told = loaded.sources.iter().map(|source| SettingsFile {
        path: source.path.as_path().into(),
        is_used: matches!(source.read, Ok(Some(_))),
        problem: source.read.as_ref().err().cloned(),
    });
    told.collect()
}

fn settings(loaded: &Loaded) -> Vec<Setting> {
    let usual = Limits::default();
    let mut told = Vec::new();
    let mut tell = |name, value: &dyn Fn(&Settings) -> Option<String>, otherwise: Option<String>| {
        let set = loaded.sources.iter().rev().find_map(|source| {
            let own = source.read.as_ref().ok()?.as_ref()?;
            value(own).map(|value| (value, source.path.as_path()))
        });
        let from = set.as_ref().map(|(_, path): &(String, &Path)| (*path).into());
        told.push(Setting { name, value: set.map(|(value, _)| value).or(otherwise), from });
    };
    let word = |value: &dyn std::fmt::Debug| format!("{value:?}").to_lowercase();
    let days = |age: jiff::SignedDuration| match age.as_hours() {
        hours if hours % 24 == 0 => format!("{} days", hours / 24),
        hours => format!("{hours} h"),
    };
    tell("search", &|set| set.search.as_ref().map(|folders| joined(folders)), None);
    tell("rate-limit", &|set| set.rate_limit.map(|rate| format!("{} a second", format_size(rate))), None);
    tell("color", &|set| set.color.map(|color| word(&color)), Some("auto".to_owned()));
    tell("new-disks.format", &|set| set.new_disks.format.map(|format| word(&format)), None);
    tell("new-disks.kind", &|set| set.new_disks.kind.map(|kind| word(&kind)), Some("dynamic".to_owned()));
    tell("attention.checkpoint-age", &|set| set.attention.checkpoint_age.map(days), Some(days(usual.age)));
    let percent = |share: u64| format!("{share} %");
    tell("attention.checkpoint-share", &|set| set.attention.checkpoint_share.map(percent), Some(percent(usual.share)));
    let layers = |layers: usize| layers.to_string();
    tell("attention.layers", &|set| set.attention.layers.map(layers), Some(layers(usual.layers)));
    told
}

fn joined(folders: &[std::path::PathBuf]) -> String {
    folders.iter().map(|folder| folder.display().to_string()).collect::<Vec<_>>().join(", ")
}
