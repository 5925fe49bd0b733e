//! Lists in files of our own, which strangers may have written: none is longer than makes sense.

use serde::de::{Deserialize, Deserializer, Error, SeqAccess, Visitor};

/// For `#[serde(deserialize_with)]`: a list of at most so many items.
pub(crate) fn list<'de, T, D, const MOST: usize>(deserializer: D) -> Result<Vec<T>, D::Error>
where
    T: Deserialize<'de>,
    D: Deserializer<'de>,
{
    deserializer.deserialize_seq(List::<T, MOST>(std::marker::PhantomData))
}

struct List<T, const MOST: usize>(std::marker::PhantomData<T>);

impl<'de, T: Deserialize<'de>, const MOST: usize> Visitor<'de> for List<T, MOST> {
    type Value = Vec<T>;

    fn expecting(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "a list of at most {MOST}")
    }

    fn visit_seq<A: SeqAccess<'de>>(self, mut items: A) -> Result<Vec<T>, A::Error> {
        let mut list = Vec::new();
        while let Some(item) = items.next_element()? {
            if list.len() == MOST {
                return Err(A::Error::invalid_length(MOST + 1, &self));
            }
            list.push(item);
        }
        Ok(list)
    }
}
