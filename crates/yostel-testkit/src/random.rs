//! Numbers that look random, the same from the same seed on every machine.

/// A generator of 64-bit numbers (xorshift, Marsaglia 2003).
#[derive(Debug, Clone)]
pub struct Random(u64);

impl Random {
    /// Begins at a state, which must not be 0.
    pub(crate) fn at(state: u64) -> Self {
        Self(state)
    }

    /// Begins at a seed; near seeds give different numbers.
    pub fn of(seed: u64) -> Self {
        Self(seed.wrapping_mul(0x9e37_79b9_7f4a_7c15) | 1)
    }

    /// Returns the next number.
    pub(crate) fn number(&mut self) -> u64 {
        self.0 ^= self.0 << 13;
        self.0 ^= self.0 >> 7;
        self.0 ^= self.0 << 17;
        self.0
    }

    /// Returns a number below a limit; 0 where that is 0.
    pub fn below(&mut self, limit: u64) -> u64 {
        (self.number() >> 11) % limit.max(1)
    }
}
