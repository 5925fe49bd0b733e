//! Values as they are typed: sizes, formats, and the other words that an option takes.

use clap::ValueEnum;
use jiff::tz::TimeZone;
use jiff::{SignedDuration, Timestamp, civil};
use serde::Deserialize;
use zestful_sapling::image::{Format, Kind, Space};
use zestful_sapling::ops::{Identity, KeepName};
use zestful_sapling::size::parse_size;

#[derive(Clone, Copy, Debug, PartialEq, Eq, Deserialize, ValueEnum)]
#[serde(rename_all = "lowercase")]
pub(crate) enum FormatName {
    Raw,
    Vhd,
    Vhdx,
}

impl From<FormatName> for Format {
    fn from(name: FormatName) -> Self {
        match name {
            FormatName::Raw => Format::Raw,
            FormatName::Vhd => Format::Vhd,
            FormatName::Vhdx => Format::Vhdx,
        }
    }
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, Deserialize, ValueEnum)]
#[serde(rename_all = "lowercase")]
pub(crate) enum KindName {
    Dynamic,
    Fixed,
}

impl From<KindName> for Kind {
    fn from(name: KindName) -> Self {
        match name {
            KindName::Dynamic => Kind::Dynamic,
            KindName::Fixed => Kind::Fixed,
        }
    }
}

#[derive(Clone, Copy, Debug, ValueEnum)]
pub(crate) enum SpaceName {
    /// Every byte is written
    Written,
    /// The host sets the space aside
    Reserved,
    /// Nothing is set aside
    Sparse,
}

impl From<SpaceName> for Space {
    fn from(name: SpaceName) -> Self {
        match name {
            SpaceName::Written => Space::Written,
            SpaceName::Reserved => Space::Reserved,
            SpaceName::Sparse => Space::Sparse,
        }
    }
}

#[derive(Clone, Copy, Debug, ValueEnum)]
pub(crate) enum IdentityName {
    /// One of its own
    Fresh,
    /// The source's
    Keep,
}

impl From<IdentityName> for Identity {
    fn from(name: IdentityName) -> Self {
        match name {
            IdentityName::Fresh => Identity::Fresh,
            IdentityName::Keep => Identity::Keep,
        }
    }
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub(crate) enum Depth {
    /// The disk as its guest sees it, as one image
    Disk,
    /// Every layer, into a new folder
    Chain,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub(crate) enum NameOf {
    /// The parent's, or the ancestor's
    Parent,
    /// The child's: whatever pointed at the disk goes on finding it
    Child,
}

impl From<NameOf> for KeepName {
    fn from(name: NameOf) -> Self {
        match name {
            NameOf::Parent => KeepName::Parent,
            NameOf::Child => KeepName::Child,
        }
    }
}

pub(crate) fn size(text: &str) -> Result<u64, String> {
    parse_size(text).map_err(|error| zestful_sapling::Error::from(error).to_string())
}

pub(crate) fn rate(text: &str) -> Result<u64, String> {
    match size(text)? {
        0 => Err("nothing would ever be done; leave it out for no limit".to_owned()),
        rate => Ok(rate),
    }
}

/// A number of weeks, days, hours or minutes.
pub(crate) fn span(text: &str) -> Result<SignedDuration, String> {
    let wrong = || "a number with w, d, h or m behind it, such as 14d".to_owned();
    let (number, unit) = text.trim().split_at_checked(text.trim().len().saturating_sub(1)).ok_or_else(wrong)?;
    let hours: i64 = match unit {
        "w" => 7 * 24,
        "d" => 24,
        "h" => 1,
        "m" => 0,
        _ => return Err(wrong()),
    };
    let number: i64 = number.trim().parse().ok().filter(|number| (0..1_000_000).contains(number)).ok_or_else(wrong)?;
    Ok(if hours == 0 { SignedDuration::from_mins(number) } else { SignedDuration::from_hours(number * hours) })
}

/// A moment: a date, a date and a time (of UTC where nothing else is said), or so long ago.
pub(crate) fn moment(text: &str) -> Result<Timestamp, String> {
    let at_utc = |moment: civil::DateTime| moment.to_zoned(TimeZone::UTC).map(|moment| moment.timestamp());
    if let Ok(moment) = text.parse::<Timestamp>() {
        return Ok(moment);
    }
    if let Ok(moment) = text.parse::<civil::DateTime>().and_then(at_utc) {
        return Ok(moment);
    }
    let ago = span(text).ok().and_then(|span| Timestamp::now().checked_sub(span).ok());
    ago.ok_or_else(|| "a date such as 2026-11-20, a time such as 2026-11-20T14:30, or an age such as 14d".to_owned())
}

pub(crate) fn sectors(text: &str) -> Result<(u32, u32), String> {
    match text {
        "512/512" => Ok((512, 512)),
        "512/4096" => Ok((512, 4096)),
        "4096/4096" => Ok((4096, 4096)),
        _ => Err("one of 512/512, 512/4096, 4096/4096".to_owned()),
    }
}

/// A setter is called with what was typed, if anything was.
pub(crate) fn with<T, V>(into: T, typed: Option<V>, set: impl FnOnce(T, V) -> T) -> T {
    match typed {
        Some(value) => set(into, value),
        None => into,
    }
}
