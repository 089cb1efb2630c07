//! Names that are near to one that is not there.

/// The names of `known` that are near to `name`, nearest first, at most three.
#[must_use]
pub fn near<'a>(name: &str, known: impl IntoIterator<Item = &'a str>) -> Vec<&'a str> {
    let folded = name.to_lowercase();
    let mut near: Vec<(usize, &str)> = known
        .into_iter()
        .filter(|other| *other != name)
        .filter_map(|other| {
            let other_folded = other.to_lowercase();
            let distance = strsim::damerau_levenshtein(&folded, &other_folded);
            // Any name of one letter would be near any other.
            let allowed = ((folded.chars().count() + 1) / 3).min(3);
            let prefix = folded.chars().count() > 2
                && (other_folded.starts_with(&folded) || folded.starts_with(&other_folded))
                && other_folded.chars().count() > 2;
            (distance <= allowed || prefix).then_some((distance, other))
        })
        .collect();
    near.sort();
    near.dedup();
    near.into_iter().take(3).map(|(_, name)| name).collect()
}

/// `near: a, b`, if any of `known` is near to `name`.
#[must_use]
pub fn near_words<'a>(name: &str, known: impl IntoIterator<Item = &'a str>) -> Option<String> {
    near_in_words(&near(name, known))
}

/// The same of names that are known to be near.
#[must_use]
pub fn near_in_words(near: &[&str]) -> Option<String> {
    (!near.is_empty()).then(|| format!("near: {}", near.join(", ")))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn near_names() {
        let known = ["vessel", "vehicle", "fare", "Berth", "seats", "id"];
        assert_eq!(near("vesel", known), ["vessel"]);
        assert_eq!(near("berth", known), ["Berth"]);
        assert_eq!(near("seat", known), ["seats"]);
        assert!(near("harbour", known).is_empty() && near("note", ["code", "name"]).is_empty());
        assert!(near("x", ["y", "y1", "abc"]).is_empty());
        assert_eq!(near("x", ["X", "y"]), ["X"]);
    }
}
