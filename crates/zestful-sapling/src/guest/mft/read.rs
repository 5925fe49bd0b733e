//! Values read out of a volume, and gathered out of all records of a file.

use super::record::{ATTRIBUTE_LIST, Attribute, Record, Reference};
use super::table::Mft;
use super::value::Value;
use crate::bytes::{index, le_u16, le_u32, le_u64, wide};
use crate::guest::trouble::Trouble;

/// A list of attributes is no longer than this, by the file system's own rules.
const MOST_LIST: u64 = 256 << 10;

/// Takes a part of a value, and where it begins.
pub(in crate::guest) type TakeContent<'a> = dyn FnMut(u64, &[u8]) -> Result<(), Trouble> + 'a;

fn damaged<T>(what: impl Into<String>) -> Result<T, Trouble> {
    Err(Trouble::Damaged(what.into()))
}

impl Mft {
    /// Fills a buffer from a place of a value on.
    pub(super) fn read_value(&mut self, value: &Value, buffer: &mut [u8], at: u64) -> Result<(), Trouble> {
        if let Some(bytes) = &value.resident {
            let part = bytes.get(index(at)..index(at.saturating_add(wide(buffer.len()))));
            return part.map_or_else(
                || damaged("a value ends too early"),
                |part| {
                    buffer.copy_from_slice(part);
                    Ok(())
                },
            );
        }
        let (mut at, mut rest) = (at, buffer);
        while !rest.is_empty() {
            let (place, len) = value.place(at, wide(rest.len()), self.cluster)?;
            let (now, later) = rest.split_at_mut(index(len));
            match place {
                Some(place) => self.window.read_at(now, place)?,
                None => now.fill(0),
            }
            (rest, at) = (later, at + len);
        }
        Ok(())
    }

    /// All of a value that is no hole and was ever written, in pieces of at most so many bytes, upwards.
    pub(in crate::guest) fn content(
        &mut self,
        value: &Value,
        most: u64,
        take: &mut TakeContent<'_>,
    ) -> Result<(), Trouble> {
        if let Some(bytes) = &value.resident {
            return take(0, bytes);
        }
        let (mut at, end, patience) = (0, value.len.min(value.written), self.window.patience());
        let mut buffer = Vec::new();
        while at < end {
            let (place, len) = value.place(at, end - at, self.cluster)?;
            if let Some(place) = place {
                buffer.resize(index(len.min(most)), 0);
                self.window.read_at(&mut buffer, place)?;
                patience.renew();
                take(at, &buffer)?;
                at += wide(buffer.len());
            } else {
                at += len;
            }
        }
        // A list that ends too early shows behind what was written, too.
        match value.told.saturating_mul(self.cluster) < value.len {
            true => damaged("its list of clusters ends before the file does"),
            false => Ok(()),
        }
    }

    /// The value of an attribute of a file whose base record this is; none where it has no such attribute.
    pub(in crate::guest) fn value(
        &mut self,
        number: u64,
        base: &Record,
        kind: u32,
        name: &[u8],
    ) -> Result<Option<Value>, Trouble> {
        let clusters = self.clusters;
        let (mut parts, mut list) = (Vec::new(), None);
        let is_it = |attribute: &Attribute<'_>| attribute.kind == kind && attribute.name() == name;
        for attribute in base.attributes() {
            let attribute = attribute?;
            if attribute.kind == ATTRIBUTE_LIST {
                list = Some(attribute);
            } else if is_it(&attribute) {
                parts.push((attribute.first_cluster(), None, attribute));
            }
        }
        let records = match list {
            Some(list) => self.parts(number, base, &list, Some(kind))?,
            None => Vec::new(),
        };
        for (part, record) in records.iter().enumerate() {
            for attribute in record.attributes() {
                let attribute = attribute?;
                if is_it(&attribute) {
                    parts.push((attribute.first_cluster(), Some(part), attribute));
                }
            }
        }
        parts.sort_by_key(|(first, part, _)| (*first, *part));
        let mut value = None::<Value>;
        for (_, _, attribute) in &parts {
            value.get_or_insert_default().add(attribute, clusters)?;
        }
        Ok(value)
    }

    /// The records beside its base, in use as that is, that a list of attributes names, of all kinds or of one.
    pub(super) fn parts(
        &mut self,
        number: u64,
        base: &Record,
        list: &Attribute<'_>,
        kind: Option<u32>,
    ) -> Result<Vec<Record>, Trouble> {
        let mut value = Value::default();
        value.add(list, self.clusters)?;
        let mut bytes = vec![0; index(value.len.min(MOST_LIST))];
        self.read_value(&value, &mut bytes, 0)?;
        let (mut at, mut parts) = (0, Vec::new());
        while let Some(entry) = bytes.get(at..at + 26) {
            let len = usize::from(le_u16(entry, 4));
            if len < 26 || le_u32(entry, 0) == 0 {
                break;
            }
            if kind.is_none_or(|kind| le_u32(entry, 0) == kind) {
                parts.push(Reference::of(le_u64(entry, 16)).number);
            }
            at += len;
        }
        parts.sort_unstable();
        parts.dedup();
        let parts = parts.into_iter().filter(|part| *part != number);
        parts
            .map(|part| {
                match self
                    .record(part)?
                    .filter(|record| record.base == Some(number) && record.is_in_use == base.is_in_use)
                {
                    Some(record) => Ok(record),
                    None => damaged(format!("record {part} should be a part of record {number}, and is none")),
                }
            })
            .collect()
    }
}
