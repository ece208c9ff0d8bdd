//! Variables and literals: dense 32-bit indexes.

use std::fmt;
use std::ops::Not;

/// A variable of the problem, numbered from 0 in the order of creation.
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Var(pub(crate) u32);

/// A variable or its negation. Even codes are positive, so that `code ^ 1` negates.
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Lit(pub(crate) u32);

impl Var {
    /// Returns the variable of a dense index.
    ///
    /// # Panics
    /// When it is 2^31 or more.
    pub fn from_index(index: usize) -> Self {
        assert!(index < 1 << 31, "fewer than 2^31 variables fit in memory");
        Self(index as u32)
    }

    /// Returns the dense index of this variable, from 0.
    pub fn index(self) -> usize {
        self.0 as usize
    }

    /// Returns the literal that is true when the variable is true.
    pub fn positive(self) -> Lit {
        Lit(self.0 << 1)
    }

    /// Returns the literal that is true when the variable is false.
    pub fn negative(self) -> Lit {
        Lit(self.0 << 1 | 1)
    }
}

impl Lit {
    /// Returns the variable of this literal.
    pub fn var(self) -> Var {
        Var(self.0 >> 1)
    }

    /// Tells whether this literal is the variable itself, not its negation.
    pub fn is_positive(self) -> bool {
        self.0 & 1 == 0
    }

    /// Returns the literal as DIMACS writes it: variable from 1, negative when negated.
    pub fn to_dimacs(self) -> i64 {
        let number = i64::from(self.0 >> 1) + 1;
        if self.is_positive() { number } else { -number }
    }

    pub(crate) fn code(self) -> usize {
        self.0 as usize
    }
}

impl Not for Lit {
    type Output = Lit;

    fn not(self) -> Lit {
        Lit(self.0 ^ 1)
    }
}

impl fmt::Debug for Lit {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}", self.to_dimacs())
    }
}

impl fmt::Debug for Var {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "v{}", self.0 + 1)
    }
}
