//! Sizes as people write and read them.

use thiserror::Error;

/// 1024 bytes.
pub const KIB: u64 = 1 << 10;
/// 1024 KiB.
pub const MIB: u64 = 1 << 20;
/// 1024 MiB.
pub const GIB: u64 = 1 << 30;
/// 1024 GiB.
pub const TIB: u64 = 1 << 40;

/// A text that is no size.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
#[error("`{text}` is not a size: {why}")]
#[non_exhaustive]
pub struct NotASize {
    /// The text.
    pub text: String,
    /// Why it is none.
    pub why: String,
}

impl NotASize {
    /// What a size looks like.
    pub const ADVICE: &str = "write it like 64G, 1.5TiB, 500GB, or in plain bytes";
}

/// Reads a size: plain digits are bytes; `K M G T` and `KiB MiB GiB TiB` are powers of 1024, `kB MB GB TB` powers
/// of 1000, in capitals or not. A fraction is fine where it comes to whole bytes.
///
/// ```
/// use zestful_sapling::size::parse_size;
/// assert_eq!(parse_size("1.5G").unwrap(), 1_610_612_736);
/// assert_eq!(parse_size("40 GB").unwrap(), 40_000_000_000);
/// assert!(parse_size("99999999999T").is_err());
/// ```
///
/// # Errors
/// When it is no size, or more than 64 bits of bytes.
pub fn parse_size(text: &str) -> Result<u64, NotASize> {
    let wrong = |why: &str| NotASize { text: text.to_owned(), why: why.to_owned() };
    let text_trimmed = text.trim();
    let split = text_trimmed.find(|c: char| !c.is_ascii_digit() && c != '.').unwrap_or(text_trimmed.len());
    let (number, unit) = text_trimmed.split_at(split);
    let factor: u128 = match unit.trim().to_ascii_lowercase().as_str() {
        "" | "b" => 1,
        "k" | "kib" => 1 << 10,
        "m" | "mib" => 1 << 20,
        "g" | "gib" => 1 << 30,
        "t" | "tib" => 1 << 40,
        "kb" => 1_000,
        "mb" => 1_000_000,
        "gb" => 1_000_000_000,
        "tb" => 1_000_000_000_000,
        _ => return Err(wrong(&format!("unknown unit `{}`", unit.trim()))),
    };
    let (whole, fraction) = number.split_once('.').unwrap_or((number, ""));
    if whole.is_empty() || (number.contains('.') && fraction.is_empty()) || fraction.len() > 12 {
        return Err(wrong("it does not begin with a number"));
    }
    let digits: u128 = format!("{whole}{fraction}").parse().map_err(|_| wrong("the number is too large"))?;
    let scale = 10u128.pow(u32::try_from(fraction.len()).unwrap_or(12));
    let scaled = digits.checked_mul(factor).ok_or_else(|| wrong("the number is too large"))?;
    if scaled % scale != 0 {
        return Err(wrong("it does not come to whole bytes"));
    }
    u64::try_from(scaled / scale).map_err(|_| wrong("the number is too large"))
}

/// A size in binary units, at most two decimals: `3.25 GiB`.
///
/// ```
/// use zestful_sapling::size::format_size;
/// assert_eq!(format_size(0), "0 B");
/// assert_eq!(format_size(64 << 40), "64 TiB");
/// assert_eq!(format_size(1_610_612_736), "1.5 GiB");
/// ```
pub fn format_size(bytes: u64) -> String {
    let (unit, name) = match bytes {
        0..KIB => return format!("{bytes} B"),
        KIB..MIB => (KIB, "KiB"),
        MIB..GIB => (MIB, "MiB"),
        GIB..TIB => (GIB, "GiB"),
        _ => (TIB, "TiB"),
    };
    let hundredths = u128::from(bytes) * 100 / u128::from(unit);
    let (whole, rest) = (hundredths / 100, hundredths % 100);
    let text = match whole {
        0..100 => format!("{whole}.{rest:02}"),
        100..1000 => format!("{whole}.{}", rest / 10),
        _ => whole.to_string(),
    };
    let text = if text.contains('.') { text.trim_end_matches('0').trim_end_matches('.') } else { &text };
    format!("{text} {name}")
}

/// The same with the exact bytes behind it, for messages in which a size is compared with another.
///
/// ```
/// use zestful_sapling::size::exact_size;
/// assert_eq!(exact_size(512), "512 B");
/// assert_eq!(exact_size(1_610_612_736), "1.5 GiB (1610612736 bytes)");
/// ```
pub fn exact_size(bytes: u64) -> String {
    match bytes {
        0..KIB => format_size(bytes),
        _ => format!("{} ({bytes} bytes)", format_size(bytes)),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn sizes_are_read_as_written() {
        let table = [
            ("512", 512),
            ("1K", 1024),
            ("1 KiB", 1024),
            ("1kB", 1000),
            ("1kb", 1000),
            ("64T", 64 * TIB),
            ("3m", 3 * MIB),
            ("2gib", 2 * GIB),
            ("2 gb", 2_000_000_000),
            ("1.5t", TIB + TIB / 2),
            ("0.5M", 524_288),
            ("16777215.999999999999T", 0),
            ("1.0001K", 0),
            ("-1", 0),
            ("", 0),
            ("G", 0),
            ("1.G", 0),
            ("12Q", 0),
            ("18446744073709551616", 0),
        ];
        for (text, bytes) in table {
            match bytes {
                0 => assert!(parse_size(text).is_err(), "{text}"),
                _ => assert_eq!(parse_size(text).unwrap(), bytes, "{text}"),
            }
        }
    }

    #[test]
    fn sizes_are_written_short() {
        for (bytes, text) in [
            (1023, "1023 B"),
            (1024, "1 KiB"),
            (1536, "1.5 KiB"),
            (MIB - 1, "1023 KiB"),
            (127 * GIB, "127 GiB"),
            (100 * GIB + GIB / 4, "100.2 GiB"),
            (1000 * GIB, "1000 GiB"),
            (u64::MAX, "16777215 TiB"),
        ] {
            assert_eq!(format_size(bytes), text);
        }
    }
}
