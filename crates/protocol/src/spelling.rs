//! Misspelt names: shortened for errors, with the nearest known name.

/// Longest name that is compared with others, in bytes: comparing takes time in the product of two lengths. PostgreSQL's
/// own names have at most 63.
pub const MAX_NAME: usize = 128;

/// Names that one is compared with, at most.
const MAX_CANDIDATES: usize = 1_000;

/// A name as messages repeat it: its beginning, where it is long.
pub fn shortened(name: &str) -> String {
    const SHOWN: usize = 60;
    match name.char_indices().nth(SHOWN) {
        Some((end, _)) => format!("{}…", &name[..end]),
        None => name.to_string(),
    }
}

/// The candidate most like `name`, if one is like enough to be meant. Names that are longer than [`MAX_NAME`] are not
/// like any, and of very many candidates only the first are looked at.
pub fn similar<'a>(name: &str, candidates: impl IntoIterator<Item = &'a str>) -> Option<String> {
    if name.len() > MAX_NAME {
        return None;
    }
    candidates
        .into_iter()
        .take(MAX_CANDIDATES)
        .filter(|c| c.len() <= MAX_NAME)
        .map(|c| (strsim::damerau_levenshtein(&name.to_lowercase(), &c.to_lowercase()), c))
        .filter(|(distance, c)| *distance <= 1 + c.chars().count().min(name.chars().count()) / 4)
        .min()
        .map(|(_, c)| c.to_string())
}
