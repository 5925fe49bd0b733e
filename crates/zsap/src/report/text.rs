//! Words for people: escaped names, ages, shares.

use std::path::Path;

use jiff::Timestamp;
use zestful_sapling::size::format_size;

/// Text from a file or a file's name, with everything escaped that could steer a terminal or turn the reading
/// direction around.
pub(crate) fn safe(text: &str) -> String {
    text.chars()
        .flat_map(|c| {
            let steering = c.is_control()
                || matches!(c, '\u{200E}' | '\u{200F}' | '\u{202A}'..='\u{202E}' | '\u{2066}'..='\u{2069}');
            let escaped: Vec<char> = if steering { c.escape_unicode().collect() } else { vec![c] };
            escaped
        })
        .collect()
}

/// The same of several lines.
pub(crate) fn safe_lines(text: &str) -> String {
    text.split('\n').map(safe).collect::<Vec<_>>().join("\n")
}

pub(crate) fn path(path: &Path) -> String {
    safe(&path.to_string_lossy())
}

/// The last part of a path.
pub(crate) fn name(path: &Path) -> String {
    safe(&path.file_name().unwrap_or(path.as_os_str()).to_string_lossy())
}

/// Output reads well in so many columns.
const COLUMNS: usize = 100;

/// Breaks a text between words; every line after the first begins with `indent`.
pub(crate) fn wrapped(text: &str, indent: &str) -> String {
    let options = textwrap::Options::new(COLUMNS).subsequent_indent(indent).break_words(false);
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
    fn shares_are_short() {
        for (part, whole, text) in
            [(0, 10, "0 %"), (1, 1_000_000, "<0.1 %"), (5, 1000, "0.5 %"), (1, 3, "33 %"), (1, 0, "-")]
        {
            assert_eq!(share(part, whole), text);
        }
    }
}
