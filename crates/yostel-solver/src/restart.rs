//! When to start over: after as many conflicts as the Luby sequence says (Luby, Sinclair and Zuckerman 1993).

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

#[cfg(test)]
mod tests {
    #[test]
    fn luby_starts_as_published() {
        let seen: Vec<u64> = (0..15).map(super::luby).collect();
        assert_eq!(seen, [1, 1, 2, 1, 1, 2, 4, 1, 1, 2, 1, 1, 2, 4, 8]);
    }
}
