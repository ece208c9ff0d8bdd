//! When to start over, after as many conflicts as the Luby sequence says (Luby, Sinclair and Zuckerman 1993), and whose turn it
//! is then.

/// Returns the `n`-th member, from 0, of 1 1 2 1 1 2 4 1 1 2 1 1 2 4 8 …
pub(crate) fn luby(n: u64) -> u64 {
    let (mut size, mut exponent) = (1u64, 0u32);
    while size < n + 1 {
        exponent += 1;
        size = 2 * size + 1;
    }
    let mut n = n;
    while size - 1 != n {
        size = (size - 1) / 2;
        exponent -= 1;
        n %= size;
    }
    1 << exponent
}

/// Whose turn it is: to decide first what took part in no conflict, so that little is undone where conflicts are about a small
/// part of the problem; or what took part in most of them, where they are about all of it. Each may do as much as the other.
#[derive(Debug)]
pub(crate) struct Turns {
    pub(crate) calm_first: bool,
    /// How many literals are to be forced in all before the next turn; 0 before the first began.
    until: u64,
    /// How many may be forced in a turn.
    length: u64,
}

/// How many literals may be forced in the first turn, for each variable.
const FIRST_TURN: u64 = 10;

impl Default for Turns {
    fn default() -> Self {
        Self { calm_first: true, until: 0, length: 0 }
    }
}

impl Turns {
    /// Looks whether the turn is over; tells whether it was.
    pub(crate) fn turn(&mut self, forced: u64, variables: usize) -> bool {
        if self.length == 0 {
            self.length = FIRST_TURN * variables as u64;
            self.until = forced + self.length;
        }
        if forced < self.until {
            return false;
        }
        self.calm_first = !self.calm_first;
        if self.calm_first {
            self.length *= 2;
        }
        self.until = forced + self.length;
        true
    }
}

#[cfg(test)]
mod tests {
    #[test]
    fn luby_starts_as_published() {
        let seen: Vec<u64> = (0..15).map(super::luby).collect();
        assert_eq!(seen, [1, 1, 2, 1, 1, 2, 4, 1, 1, 2, 1, 1, 2, 4, 8]);
    }
}
