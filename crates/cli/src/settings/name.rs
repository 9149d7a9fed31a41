//! The archive's name as a pattern: plain text, and fields in braces.

use std::ffi::OsString;
use under_seal_core::disk::names::name_of;

/// The fields that a pattern may have.
pub const FIELDS: [&str; 4] = ["folder", "date", "time", "profile"];

/// The longest name of a file on most systems, less what numbers and extension take, in bytes.
const MAX_NAME_BYTES: usize = 200;

/// A pattern that can be read.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct NamePattern(String);

/// Why a pattern makes no name.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum NamePatternError {
    /// A field that nobody knows.
    UnknownField {
        /// The pattern.
        pattern: String,
        /// The field.
        field: String,
    },
    /// A brace without its other one.
    Brace(String),
    /// A slash, or nothing at all.
    NotAName(String),
    /// A field that has no value in this run.
    NoValue {
        /// The pattern.
        pattern: String,
        /// The field.
        field: &'static str,
    },
}

/// What the fields stand for.
#[derive(Debug, Default)]
pub struct NameFields {
    /// The only source's name.
    pub folder: Option<OsString>,
    /// Today, such as 2026-11-25.
    pub date: String,
    /// Now, such as 0930.
    pub time: String,
    /// The recipient's profile.
    pub profile: Option<String>,
}

enum Part<'a> {
    Text(&'a str),
    Field(&'static str),
}

impl NamePattern {
    /// Reads a pattern.
    pub fn new(pattern: &str) -> Result<Self, NamePatternError> {
        if pattern.is_empty() || pattern.contains(['/', '\0']) {
            return Err(NamePatternError::NotAName(pattern.to_owned()));
        }
        parts(pattern).map(|_| Self(pattern.to_owned()))
    }

    /// The pattern as it was written.
    pub fn as_str(&self) -> &str {
        &self.0
    }

    /// The name that it makes.
    pub fn name(&self, fields: &NameFields) -> Result<OsString, NamePatternError> {
        let mut name = Vec::new();
        for part in parts(&self.0)? {
            let field = match part {
                Part::Text(text) => {
                    name.extend_from_slice(text.as_bytes());
                    continue;
                }
                Part::Field(field) => field,
            };
            let value = match field {
                "folder" => fields.folder.as_ref().map(|folder| folder.as_encoded_bytes()),
                "profile" => fields.profile.as_ref().map(String::as_bytes),
                "date" => Some(fields.date.as_bytes()),
                _ => Some(fields.time.as_bytes()),
            };
            let no_value = || NamePatternError::NoValue { pattern: self.0.clone(), field };
            name.extend_from_slice(value.ok_or_else(no_value)?);
        }
        match name.as_slice() {
            b"." | b".." => Err(NamePatternError::NotAName(self.0.clone())),
            long if long.len() > MAX_NAME_BYTES => Err(NamePatternError::NotAName(self.0.clone())),
            _ => Ok(name_of(&name)),
        }
    }
}

fn parts(pattern: &str) -> Result<Vec<Part<'_>>, NamePatternError> {
    let (mut parts, mut rest) = (Vec::new(), pattern);
    while let Some(brace) = rest.find(['{', '}']) {
        let (text, from) = rest.split_at(brace);
        parts.push(Part::Text(text));
        let field = from.strip_prefix('{').and_then(|from| from.split_once('}'));
        let (field, behind) = field.ok_or_else(|| NamePatternError::Brace(pattern.to_owned()))?;
        let known = FIELDS.iter().find(|known| **known == field);
        let unknown = || NamePatternError::UnknownField { pattern: pattern.to_owned(), field: field.to_owned() };
        parts.push(Part::Field(known.ok_or_else(unknown)?));
        rest = behind;
    }
    parts.push(Part::Text(rest));
    Ok(parts)
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    fn fields() -> NameFields {
        NameFields { folder: Some("dossier".into()), date: "2026-11-25".into(), time: "0930".into(), profile: None }
    }

    #[rstest]
    #[case("{folder}-{date}", "dossier-2026-11-25")]
    #[case("for the board", "for the board")]
    #[case("{date}{time}{folder}", "2026-11-250930dossier")]
    fn a_pattern_makes_a_name(#[case] pattern: &str, #[case] expected: &str) {
        assert_eq!(NamePattern::new(pattern).unwrap().name(&fields()).unwrap(), expected);
    }

    #[rstest]
    #[case("", NamePatternError::NotAName("".into()))]
    #[case("a/b", NamePatternError::NotAName("a/b".into()))]
    #[case("{folder", NamePatternError::Brace("{folder".into()))]
    #[case("folder}", NamePatternError::Brace("folder}".into()))]
    #[case("{datum}", NamePatternError::UnknownField { pattern: "{datum}".into(), field: "datum".into() })]
    #[case("{profile}", NamePatternError::NoValue { pattern: "{profile}".into(), field: "profile" })]
    #[case("..", NamePatternError::NotAName("..".into()))]
    fn a_pattern_that_makes_none_is_refused(#[case] pattern: &str, #[case] expected: NamePatternError) {
        let refused = NamePattern::new(pattern).and_then(|pattern| pattern.name(&fields()));
        assert_eq!(refused, Err(expected));
    }
}
