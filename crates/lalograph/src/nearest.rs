//! Names that may have been meant.

/// The most similarly spelt of some names, ignoring case, if it is similar enough to be meant.
pub(crate) fn nearest_name<'n>(wanted: &str, names: &'n [String]) -> Option<&'n str> {
    let wanted = wanted.to_lowercase();
    names
        .iter()
        .map(|name| (strsim::jaro_winkler(&wanted, &name.to_lowercase()), name.as_str()))
        .filter(|(similarity, _)| *similarity > 0.8)
        .max_by(|a, b| a.0.total_cmp(&b.0))
        .map(|(_, name)| name)
}
