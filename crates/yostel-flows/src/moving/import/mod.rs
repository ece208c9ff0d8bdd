//! Taking over what another project uses: the first lock keeps every version of a list that can be kept.
//!
//! `intake` finds out which packages are meant, at which releases, and what is needed directly; `take` resolves that, nearest to
//! the list, and makes manifest and lockfile of it.

pub(crate) mod intake;
pub(crate) mod take;
