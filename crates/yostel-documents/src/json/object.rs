//! Objects of JSON, read without keeping more than was asked for.

use std::borrow::{Borrow, Cow};
use std::collections::BTreeSet;
use std::fmt;
use std::marker::PhantomData;
use std::ops::Deref;

use serde::de::{Deserializer, Error, MapAccess, Visitor};

/// What is read from an object of which this version knows some members. A name that is there twice is refused.
pub(crate) trait Object<'t>: Default {
    /// The members that must be there.
    const MUST: &'static [&'static str];

    /// Takes in the member of this name, which comes next.
    fn member<A: MapAccess<'t>>(&mut self, name: &str, members: &mut A) -> Result<(), A::Error>;
}

/// Lets types be read as such objects.
macro_rules! read_as_objects {
    ($($name:ident),*) => {$(
        impl<'de: 't, 't> serde::Deserialize<'de> for $name<'t> {
            fn deserialize<D: serde::Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
                $crate::json::read_object(deserializer)
            }
        }
    )*};
}

pub(crate) use read_as_objects;

/// Reads such an object.
pub(crate) fn read_object<'de, T: Object<'de>, D: Deserializer<'de>>(deserializer: D) -> Result<T, D::Error> {
    struct Reading<T>(PhantomData<T>);
    impl<'de, T: Object<'de>> Visitor<'de> for Reading<T> {
        type Value = T;

        fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
            f.write_str("an object")
        }

        fn visit_map<A: MapAccess<'de>>(self, mut members: A) -> Result<T, A::Error> {
            let (mut object, mut names) = (T::default(), Names::default());
            while let Some(name) = members.next_key::<Text<'de>>()? {
                object.member(&name, &mut members)?;
                names.insert(name)?;
            }
            match T::MUST.iter().find(|must| !names.contains(must)) {
                Some(missing) => Err(A::Error::missing_field(missing)),
                None => Ok(object),
            }
        }
    }
    deserializer.deserialize_map(Reading(PhantomData))
}

/// The names met in an object. Most objects have few.
#[derive(Default)]
pub(super) struct Names<'t> {
    few: Vec<Text<'t>>,
    more: BTreeSet<Text<'t>>,
}

impl<'t> Names<'t> {
    fn contains(&self, name: &str) -> bool {
        self.few.iter().any(|few| &**few == name) || self.more.contains(name)
    }

    pub(super) fn insert<E: Error>(&mut self, name: Text<'t>) -> Result<(), E> {
        if self.contains(&name) {
            return Err(twice(&name));
        }
        match self.few.len() < 16 {
            true => self.few.push(name),
            false => drop(self.more.insert(name)),
        }
        Ok(())
    }
}

pub(super) fn twice<E: Error>(name: &str) -> E {
    E::custom(format_args!("the name `{}` is there twice", name.escape_debug()))
}

/// A text, which is part of the whole wherever it has no escapes.
#[derive(Debug, Default, PartialEq, Eq, PartialOrd, Ord, serde::Serialize, serde::Deserialize)]
#[serde(transparent)]
pub(crate) struct Text<'t>(#[serde(borrow)] Cow<'t, str>);

impl Text<'_> {
    pub(crate) fn into_owned(self) -> String {
        self.0.into_owned()
    }
}

impl Borrow<str> for Text<'_> {
    fn borrow(&self) -> &str {
        &self.0
    }
}

impl Deref for Text<'_> {
    type Target = str;

    fn deref(&self) -> &str {
        &self.0
    }
}

impl<'t> From<&'t str> for Text<'t> {
    fn from(text: &'t str) -> Self {
        Self(Cow::Borrowed(text))
    }
}

impl From<String> for Text<'_> {
    fn from(text: String) -> Self {
        Self(Cow::Owned(text))
    }
}

/// The entries of an object whose names are free, in the order of the text; a name that is there twice is refused.
pub(crate) struct Entries<'t, V>(Vec<(Text<'t>, V)>);

impl<V> Default for Entries<'_, V> {
    fn default() -> Self {
        Self(Vec::new())
    }
}

impl<'t, V> Entries<'t, V> {
    pub(crate) fn is_empty(&self) -> bool {
        self.0.is_empty()
    }

    pub(crate) fn iter(&self) -> impl Iterator<Item = &(Text<'t>, V)> {
        self.0.iter()
    }
}

impl<'t, V> FromIterator<(Text<'t>, V)> for Entries<'t, V> {
    fn from_iter<I: IntoIterator<Item = (Text<'t>, V)>>(entries: I) -> Self {
        Self(entries.into_iter().collect())
    }
}

impl<V: serde::Serialize> serde::Serialize for Entries<'_, V> {
    fn serialize<S: serde::Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.collect_map(self.0.iter().map(|(name, value)| (name, value)))
    }
}

impl<'de: 't, 't, V: serde::Deserialize<'de>> serde::Deserialize<'de> for Entries<'t, V> {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        struct Reading<V>(PhantomData<V>);
        impl<'de, V: serde::Deserialize<'de>> Visitor<'de> for Reading<V> {
            type Value = Entries<'de, V>;

            fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
                f.write_str("a map")
            }

            fn visit_map<A: MapAccess<'de>>(self, mut map: A) -> Result<Self::Value, A::Error> {
                let mut entries: Vec<(Text<'de>, V)> = Vec::new();
                while let Some(entry) = map.next_entry()? {
                    entries.push(entry);
                }
                let mut names: Vec<&Text<'de>> = entries.iter().map(|(name, _)| name).collect();
                names.sort_unstable();
                match names.windows(2).find(|pair| pair[0] == pair[1]) {
                    Some(pair) => Err(twice(pair[0])),
                    None => Ok(Entries(entries)),
                }
            }
        }
        deserializer.deserialize_map(Reading(PhantomData))
    }
}
