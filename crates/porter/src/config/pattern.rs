//! Patterns of file names: `*.mov`, `day*/**`. One without a `/` is of the name alone, in whatever folder.

use std::os::unix::ffi::OsStrExt;
use std::path::Path;

#[derive(Clone, Debug, PartialEq)]
pub struct Pattern {
    pattern: glob::Pattern,
    of_path: bool,
    /// Most are an ending of names, `*.mov`: it alone is compared then.
    ending: Option<Vec<u8>>,
}

impl Pattern {
    /// The error says what would be right.
    pub fn parse(text: &str) -> Result<Pattern, String> {
        const WANTED: &str = "a pattern such as \"*.mov\", \"A[0-9]*\" or \"day1/**\"";
        if text.is_empty() || text.starts_with('/') {
            return Err(format!("{WANTED}; it is of what lies inside the watch folder"));
        }
        let pattern = glob::Pattern::new(text).map_err(|e| format!("{WANTED} ({})", e.msg))?;
        let rest = text.strip_prefix('*').filter(|r| r.is_ascii() && !r.contains(['*', '?', '[', ']', '/']));
        let ending = rest.map(|r| r.as_bytes().to_vec());
        Ok(Pattern { pattern, of_path: text.contains('/'), ending })
    }

    /// Large and small letters are the same.
    pub fn fits(&self, path: &Path) -> bool {
        if let Some(ending) = &self.ending {
            let name = path.file_name().unwrap_or_default().as_bytes();
            let at = name.len().checked_sub(ending.len());
            return at.is_some_and(|at| name[at..].eq_ignore_ascii_case(ending));
        }
        let how = glob::MatchOptions {
            case_sensitive: false,
            require_literal_separator: true,
            require_literal_leading_dot: false,
        };
        let text = if self.of_path {
            path.to_string_lossy()
        } else {
            path.file_name().map(|n| n.to_string_lossy()).unwrap_or_default()
        };
        self.pattern.matches_with(&text, how)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("*.mov", "day1/A001.MOV", true)]
    #[case("*.mov", "A001.mov.txt", false)]
    #[case("A[0-9]*", "x/A0.mp4", true)]
    #[case("day1/*", "day1/a.mp4", true)]
    #[case("day1/*", "day1/cam/a.mp4", false)]
    #[case("day1/**", "day1/cam/a.mp4", true)]
    #[case("**/proxy/*", "a/b/proxy/x.mp4", true)]
    #[case("??.wav", "ab.wav", true)]
    #[case("??.wav", "abc.wav", false)]
    fn names_fit_patterns(#[case] pattern: &str, #[case] path: &str, #[case] want: bool) {
        assert_eq!(Pattern::parse(pattern).unwrap().fits(Path::new(path)), want);
    }

    #[rstest]
    #[case("")]
    #[case("/abs/*")]
    #[case("a**b")]
    #[case("[a")]
    fn what_is_none_says_what_would_be(#[case] text: &str) {
        assert!(Pattern::parse(text).unwrap_err().contains("*.mov"));
    }
}
