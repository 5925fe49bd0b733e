//! Where the volumes go.

use super::request::{NewVolume, VolumeSize};
use crate::error::{Error, Result};
use crate::guest::{LIST_ROOM, MOST_PRIMARY, PartitionTable, room};
use crate::size::{exact_size, format_size};

/// Volumes begin and end at multiples of this, which is one of every physical sector.
pub(super) const GRAIN: u64 = 1 << 20;

/// Where the volumes begin, and how long they are, on a disk of this size and these logical sectors.
///
/// # Errors
/// `Usage` when they do not fit, with the figures.
pub(super) fn places(table: PartitionTable, size: u64, sector: u64, volumes: &[NewVolume]) -> Result<Vec<(u64, u64)>> {
    let most = (u64::from(u32::MAX) + 1).saturating_mul(sector);
    if table == PartitionTable::Mbr && size > most {
        return Err(Error::usage(
            format!(
                "an MBR reaches {} of a disk with sectors of {sector} bytes, and this one has {}",
                format_size(most),
                format_size(size)
            ),
            "give the disk a GPT",
        ));
    }
    if size < 2 * GRAIN {
        let message = format!("a disk of {} is too small for a table and volumes", format_size(size));
        return Err(Error::usage(message, format!("it takes {} at least", format_size(2 * GRAIN))));
    }
    let (before, behind) = room(table, sector);
    let start = before.next_multiple_of(GRAIN);
    let end = size.saturating_sub(behind) / GRAIN * GRAIN;
    let has_lists = table == PartitionTable::Mbr && volumes.len() > MOST_PRIMARY;
    let lists = if has_lists { (volumes.len() - (MOST_PRIMARY - 1)) as u64 * LIST_ROOM } else { 0 };
    let all = end.saturating_sub(start).saturating_sub(lists);
    let whole = |bytes: u64| bytes.div_ceil(GRAIN).saturating_mul(GRAIN);
    let fixed = |volume: &NewVolume| match volume.size {
        VolumeSize::Bytes(bytes) => Some(whole(bytes)),
        // Rounded down, so that parts of a hundred percent fit.
        VolumeSize::Percent(percent) => Some(share(all, percent) / GRAIN * GRAIN),
        VolumeSize::Rest => None,
    };
    if volumes.iter().filter(|volume| volume.size == VolumeSize::Rest).count() > 1 {
        return Err(Error::usage("only one volume can have the rest of the disk", "give the others a size"));
    }
    let asked = volumes.iter().filter_map(fixed).fold(0u64, u64::saturating_add);
    let rest = all.saturating_sub(asked);
    let needs_rest = volumes.iter().any(|volume| volume.size == VolumeSize::Rest);
    if asked > all || needs_rest && rest == 0 {
        let what = if asked > all { "the volumes need" } else { "nothing is left for the rest: the others need" };
        return Err(Error::usage(
            format!(
                "{what} {}, and the disk of {} has {} for volumes beside its table",
                exact_size(asked),
                exact_size(size),
                exact_size(all)
            ),
            "make them smaller, or the disk larger",
        ));
    }
    let mut at = start;
    let mut places = Vec::new();
    for (number, volume) in volumes.iter().enumerate() {
        let len = fixed(volume).unwrap_or(rest);
        if len == 0 {
            return Err(Error::usage(
                format!("volume {} would have less than {}", number + 1, format_size(GRAIN)),
                "give it more",
            ));
        }
        if has_lists && number >= MOST_PRIMARY - 1 {
            at += LIST_ROOM;
        }
        places.push((at, len));
        at += len;
    }
    Ok(places)
}

fn share(all: u64, percent: u8) -> u64 {
    u64::try_from(u128::from(all) * u128::from(percent) / 100).unwrap_or(u64::MAX)
}

#[cfg(test)]
mod tests {
    use super::super::request::NewFileSystem;
    use super::*;

    #[test]
    fn volumes_lie_behind_each_other_and_fit() {
        const MIB: u64 = 1 << 20;
        let volume = |size| NewVolume::new(size, NewFileSystem::None);
        let ask = |table, size: u64, sizes: &[VolumeSize]| {
            let volumes: Vec<NewVolume> = sizes.iter().map(|size| volume(*size)).collect();
            let found = places(table, size, 512, &volumes).map_err(|error| error.to_string())?;
            Ok::<_, String>(found.into_iter().map(|(at, len)| (at / MIB, len / MIB)).collect::<Vec<_>>())
        };
        use PartitionTable::{Gpt, Mbr};
        use VolumeSize::{Bytes, Percent, Rest};
        assert_eq!(ask(Gpt, 64 * MIB, &[Rest]), Ok(vec![(1, 62)]));
        assert_eq!(ask(Mbr, 64 * MIB, &[Rest]), Ok(vec![(1, 63)]));
        assert_eq!(ask(Gpt, 64 * MIB, &[Bytes(1), Rest, Percent(50)]), Ok(vec![(1, 1), (2, 30), (32, 31)]));
        assert_eq!(
            ask(Gpt, 102 * MIB, &[Percent(33), Percent(33), Percent(34)]),
            Ok(vec![(1, 33), (34, 33), (67, 34)])
        );
        assert_eq!(
            ask(Mbr, 32 * MIB, &[Bytes(MIB), Bytes(MIB), Bytes(MIB), Bytes(MIB), Rest]),
            Ok(vec![(1, 1), (2, 1), (3, 1), (5, 1), (7, 25)])
        );
        for wrong in [
            ask(Gpt, MIB, &[Rest]),
            ask(Gpt, 64 * MIB, &[Bytes(63 * MIB)]),
            ask(Gpt, 64 * MIB, &[Bytes(62 * MIB), Rest]),
            ask(Gpt, 64 * MIB, &[Rest, Rest]),
            ask(Gpt, 64 * MIB, &[Percent(60), Percent(60)]),
            ask(Gpt, 64 * MIB, &[Percent(1)]),
            ask(Gpt, 64 * MIB, &[Bytes(u64::MAX), Bytes(u64::MAX)]),
            ask(Mbr, 4 << 40, &[Rest]),
        ] {
            assert!(wrong.is_err(), "{wrong:?}");
        }
    }
}
