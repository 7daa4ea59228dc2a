//! Things that are joined with one another, each with its parent in a list.

/// The one that stands for all that `at` is joined with: its own parent. Ways there are halved.
///
/// # Source
/// Path halving: Tarjan and van Leeuwen 1984, Journal of the ACM 31, 245-281 (from memory).
#[inline]
pub(crate) fn root(parents: &mut [u32], mut at: u32) -> u32 {
    while parents[at as usize] != at {
        parents[at as usize] = parents[parents[at as usize] as usize];
        at = parents[at as usize];
    }
    at
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_end_of_a_chain_is_found_and_the_chain_halved() {
        let mut parents = vec![1, 2, 3, 4, 4, 5];
        assert_eq!(root(&mut parents, 0), 4);
        assert_eq!((root(&mut parents, 5), parents[0]), (5, 2));
    }
}
