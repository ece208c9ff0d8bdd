//! A table to look things up in, and nothing else: it cannot be walked, so its order cannot leak into an answer.

#![expect(clippy::disallowed_types, reason = "what is wrong with it, its order, cannot be seen from outside")]

use std::collections::HashMap;
use std::hash::Hash;

/// Values by key.
#[derive(Debug)]
pub struct Lookup<K, V>(HashMap<K, V>);

impl<K, V> Default for Lookup<K, V> {
    fn default() -> Self {
        Self(HashMap::new())
    }
}

impl<K: Eq + Hash, V> Lookup<K, V> {
    /// Returns the value of a key.
    pub fn get(&self, key: &K) -> Option<&V> {
        self.0.get(key)
    }

    /// Sets the value of a key.
    pub fn insert(&mut self, key: K, value: V) {
        self.0.insert(key, value);
    }

    /// Returns the value of a key, which is made when there is none.
    pub fn get_or_insert_with(&mut self, key: K, make: impl FnOnce() -> V) -> &V {
        self.0.entry(key).or_insert_with(make)
    }
}
