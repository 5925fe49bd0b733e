//! Words for people: escaped names, ages, shares.

use std::path::{Path, PathBuf};
use std::sync::OnceLock;

use jiff::Timestamp;
use zestful_sapling::family::Totals;
use zestful_sapling::size::format_size;

use super::width;

/// Text from a file or a file's name, with everything escaped that could steer a terminal, turn the reading direction
/// around, or make two names look the same.
pub(crate) fn safe(text: &str) -> String {
    text.chars()
        .flat_map(|c| {
            let steering = c.is_control()
                || matches!(c, '\u{200B}'..='\u{200F}' | '\u{202A}'..='\u{202E}')
                || matches!(c, '\u{2060}'..='\u{206F}' | '\u{FEFF}');
            let escaped: Vec<char> = if steering { c.escape_unicode().collect() } else { vec![c] };
            escaped
        })
        .collect()
}

/// The same of several lines.
pub(crate) fn safe_lines(text: &str) -> String {
    text.split('\n').map(safe).collect::<Vec<_>>().join("\n")
}

/// A path as it is from where the user stands, if that is shorter.
pub(crate) fn path(path: &Path) -> String {
    safe(&from_here(path).to_string_lossy())
}

/// Farther up than this a path from here says less than the whole one.
const MOST_UP: usize = 2;

/// The same path from where the user stands, if that is shorter.
pub(crate) fn from_here(path: &Path) -> PathBuf {
    let leads_on = |rest: &&Path| !rest.as_os_str().is_empty();
    let whole = path.strip_prefix(".").ok().filter(leads_on).unwrap_or(path);
    let Some(here) = here().filter(|_| whole.is_absolute()) else { return whole.to_owned() };
    for (up, above) in here.ancestors().take(MOST_UP + 1).enumerate() {
        if let Some(rest) = whole.strip_prefix(above).ok().filter(leads_on) {
            let from: PathBuf = std::iter::repeat_n(Path::new(".."), up).chain([rest]).collect();
            return if from.as_os_str().len() < whole.as_os_str().len() { from } else { whole.to_owned() };
        }
    }
    whole.to_owned()
}

/// Where the user stands; nothing at the root, from which every path is as long.
fn here() -> Option<&'static Path> {
    static HERE: OnceLock<Option<PathBuf>> = OnceLock::new();
    HERE.get_or_init(|| std::env::current_dir().ok().filter(|here| here.parent().is_some())).as_deref()
}

/// A sentence of the library, which names paths in full.
pub(crate) fn message(text: &str) -> String {
    let Some(here) = here().and_then(|here| here.to_str()).map(|here| format!("{here}/")) else { return safe(text) };
    let mut shown = String::new();
    let mut rest = text;
    while let Some(at) = rest.find(&here) {
        let (before, from) = rest.split_at(at);
        let begins = !before.chars().next_back().is_some_and(|c| c.is_alphanumeric() || "/._-+,:@%=".contains(c));
        let follows = &from[here.len()..];
        // What has neither an ending nor a folder would not look like a path any more.
        let name = follows.split(|c: char| c.is_whitespace() || "()`'\"".contains(c)).next().unwrap_or_default();
        let leads_on =
            name.trim_end_matches(['.', ',', ':', ';']).contains(['.', '/']) && !name.starts_with(['/', '-']);
        shown.push_str(before);
        shown.push_str(if begins && leads_on { "" } else { &here });
        rest = follows;
    }
    safe(&(shown + rest)).split(' ').map(from_this_folder).collect::<Vec<_>>().join(" ")
}

/// `./name` says no more than `name`, unless that looks like an option.
pub(crate) fn from_this_folder(word: &str) -> &str {
    word.strip_prefix("./").filter(|rest| rest.starts_with(|c: char| c.is_alphanumeric())).unwrap_or(word)
}

/// The last part of a path.
pub(crate) fn name(path: &Path) -> String {
    safe(&path.file_name().unwrap_or(path.as_os_str()).to_string_lossy())
}

/// A path as a shell takes it: as it is, or in quotes. One that holds what could steer a terminal is shown escaped, and
/// is not for copying.
pub(crate) fn shell_word(path: &Path) -> String {
    let shown = safe(&path.to_string_lossy());
    let is_plain = |c: char| c.is_alphanumeric() || "/._-+,:@%=".contains(c);
    match shown.chars().all(is_plain) {
        true => shown,
        false => format!("'{}'", shown.replace('\'', "'\\''")),
    }
}

/// A path from a folder, if it leads down from there.
pub(crate) fn below(file: &Path, folder: &Path) -> String {
    let real = || file.strip_prefix(folder.canonicalize().ok()?).ok().map(Path::to_owned);
    let rest = file.strip_prefix(folder).ok().map(Path::to_owned).or_else(real);
    rest.filter(|rest| !rest.as_os_str().is_empty()).map_or_else(|| path(file), |rest| safe(&rest.to_string_lossy()))
}

/// A lead, and as many of these names behind it as a line has room for; the others are counted.
pub(crate) fn listed(lead: &str, names: &[String]) -> String {
    let most = width::of_text().saturating_sub(textwrap::core::display_width(lead));
    format!("{lead}{}", listed_within(names, most))
}

/// As many of these names as so many columns have room for, one at least; the others are counted.
pub(crate) fn listed_within(names: &[String], most: usize) -> String {
    let joined = |shown: usize| {
        let (last, firsts) = (names.get(shown - 1).map_or("", String::as_str), &names[..shown - 1]);
        match names.len() - shown {
            0 if firsts.is_empty() => last.to_owned(),
            0 => format!("{} and {last}", firsts.join(", ")),
            more => format!("{} and {more} more", names[..shown].join(", ")),
        }
    };
    let fits = |shown: &usize| textwrap::core::display_width(&joined(*shown)) <= most;
    if names.is_empty() { String::new() } else { joined((1..=names.len()).rev().find(fits).unwrap_or(1)) }
}

/// Whether a line has room on the screen.
pub(crate) fn fits(line: &str) -> bool {
    textwrap::core::display_width(line) <= width::of_text()
}

/// Breaks a text between words; every line after the first begins with `indent`.
pub(crate) fn wrapped(text: &str, indent: &str) -> String {
    let options = textwrap::Options::new(width::of_text()).subsequent_indent(indent).break_words(false);
    textwrap::fill(text, options.word_splitter(textwrap::WordSplitter::NoHyphenation))
}

pub(crate) fn size(bytes: u64, plain: bool) -> String {
    if plain { bytes.to_string() } else { format_size(bytes) }
}

/// How long ago something was, in the largest unit that fits.
pub(crate) fn age(then: Option<Timestamp>) -> String {
    match then {
        None => "?".to_owned(),
        Some(then) if Timestamp::now().as_second().saturating_sub(then.as_second()) < 5 => "just now".to_owned(),
        Some(then) => format!("{} ago", span(then, None)),
    }
}

/// Who has an image, how, and since when.
pub(crate) fn held(image: &Path, holder: &str) -> String {
    wrapped(&format!("  held: {} by {}", name(image), safe(holder)), "    ")
}

/// The present, before what happens at it.
pub(crate) fn now() -> String {
    format!("{:.0}", Timestamp::now())
}

/// The time from then until another moment, or now, in the largest unit that fits.
pub(crate) fn span(then: Timestamp, until: Option<Timestamp>) -> String {
    let until = until.unwrap_or_else(Timestamp::now);
    let seconds = until.as_second().saturating_sub(then.as_second()).max(0);
    let (count, unit) = match seconds {
        ..120 => (seconds, "s"),
        120..7_200 => (seconds / 60, "min"),
        7_200..172_800 => (seconds / 3_600, "h"),
        _ => (seconds / 86_400, "days"),
    };
    format!("{count} {unit}")
}

pub(crate) fn count(number: usize, one: &str, many: &str) -> String {
    format!("{number} {}", if number == 1 { one } else { many })
}

/// How many images there are, and how many of them cannot be read.
pub(crate) fn images(totals: &Totals) -> String {
    let all = count(totals.images, "image", "images");
    if totals.unreadable == 0 { all } else { format!("{all} ({} cannot be read)", totals.unreadable) }
}

/// A share of a whole in percent, with a first decimal where that matters.
pub(crate) fn share(part: u64, whole: u64) -> String {
    if whole == 0 {
        return "-".to_owned();
    }
    let tenths = (u128::from(part) * 1000 / u128::from(whole)) as u64;
    match tenths {
        0 if part > 0 => "<0.1 %".to_owned(),
        0 => "0 %".to_owned(),
        1..100 => format!("{}.{} %", tenths / 10, tenths % 10),
        _ => format!("{} %", tenths / 10),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn hostile_names_are_harmless() {
        assert_eq!(safe("fen\u{1b}[2J\u{202e}.vhdx"), "fen\\u{1b}[2J\\u{202e}.vhdx");
        assert_eq!(safe("Eltern äö 日本"), "Eltern äö 日本");
    }

    #[test]
    fn paths_are_short_from_here() {
        let here = std::env::current_dir().unwrap_or_default();
        let above = here.parent().unwrap_or(Path::new("/")).to_owned();
        for (path, shown) in [
            (here.join("fen-base.vhdx"), "fen-base.vhdx".to_owned()),
            (above.join("annex/moss-04.vhdx"), "../annex/moss-04.vhdx".to_owned()),
            (PathBuf::from("./fen-base.vhdx"), "fen-base.vhdx".to_owned()),
            (PathBuf::from("/fen-base.vhdx"), "/fen-base.vhdx".to_owned()),
            (here.clone(), here.display().to_string()),
        ] {
            // The folder itself, and what is above it, may be as short in full.
            let may_be_whole = path == here || shown.starts_with("..");
            let told = super::path(&path);
            assert!(told == shown || may_be_whole && told.len() <= path.as_os_str().len(), "{told}");
        }
        let here = here.display();
        let sentence = format!("the base {here}/a.vhdx (not /x{here}/b.vhdx) stands in {here}");
        assert_eq!(message(&sentence), format!("the base a.vhdx (not /x{here}/b.vhdx) stands in {here}"));
    }

    #[test]
    fn shares_are_short() {
        for (part, whole, text) in
            [(0, 10, "0 %"), (1, 1_000_000, "<0.1 %"), (5, 1000, "0.5 %"), (1, 3, "33 %"), (1, 0, "-")]
        {
            assert_eq!(share(part, whole), text);
        }
    }
}
