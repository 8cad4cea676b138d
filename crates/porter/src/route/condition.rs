//! Conditions: expressions that are true or false.

use super::fields::{Field, Subject};
use super::script::{Gives, Script, Wrong};

/// A checked condition.
#[derive(Debug)]
pub struct Condition(Script);

const EXAMPLE: &str = "kind == \"video\" && height >= 720";
const TRUTH: &str = "a condition that is true or false";

impl Condition {
    /// The error says what would be right. A condition must give true or false for any facts.
    pub fn parse(text: &str) -> Result<Condition, String> {
        match Script::parse(text) {
            Ok((_, Some(Gives::Known(_) | Gives::Other(_)))) => Err(TRUTH.into()),
            Ok((script, _)) if script.fields().iter().any(|f| !f.in_conditions) => {
                let inside: Vec<&str> =
                    script.fields().iter().filter(|f| !f.in_conditions).map(|f| f.name).collect();
                let known = super::fields::names(true).join(", ");
                Err(format!("names of these, not '{}': {known}", inside.join("' or '")))
            }
            Ok((script, _)) => Ok(Condition(script)),
            Err(Wrong::Wanted(wanted)) => Err(wanted),
            Err(Wrong::Types) => {
                Err(format!("{TRUTH} (two values in it do not go together: a text and a number, say)"))
            }
            Err(Wrong::Form) if has_lone_equals(text) => {
                Err(format!("'==' where two values are compared, as in {EXAMPLE}"))
            }
            Err(Wrong::Form) => Err(format!("a CEL condition such as {EXAMPLE}")),
        }
    }

    pub fn text(&self) -> &str {
        self.0.text()
    }

    /// The fields that it asks for.
    pub fn fields(&self) -> Vec<&'static Field> {
        self.0.fields()
    }

    /// Whether it holds. The error says why it could not be told (a key that is not there, a division by 0).
    pub fn holds(&self, subject: &Subject<'_>) -> Result<bool, String> {
        match self.0.of(subject)? {
            Gives::True(b) => Ok(b),
            Gives::Other(what) => Err(format!("it gives {what}, not true or false")),
            Gives::Known(k) => Err(format!("it gives \"{}\", not true or false", k.words())),
        }
    }
}

fn has_lone_equals(text: &str) -> bool {
    let mut before = ' ';
    let mut chars = text.chars().peekable();
    while let Some(c) = chars.next() {
        if c == '=' && !matches!(before, '=' | '!' | '<' | '>') && chars.peek() != Some(&'=') {
            return true;
        }
        before = c;
    }
    false
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("kind == \"video\" && height >= 720")]
    #[case("name.startsWith(\"A0\") || extension in [\"mov\", \"mp4\"]")]
    #[case("fps > 49.0 ? width > 1000 : true")]
    #[case("[\"a\", \"b\"].exists(x, folder.contains(x))")]
    #[case("codec in [\"H.264\", \"ProRes 422 HQ\", \"PCM 24-bit\"] || format == \"MP4\"")]
    fn good_conditions_parse(#[case] text: &str) {
        Condition::parse(text).unwrap();
    }

    #[rstest]
    #[case("kind = \"video\"", "'=='")]
    #[case("hight > 5", "'height', not 'hight'")]
    #[case("zzz > 5", "names of these, not 'zzz'")]
    #[case("preset == \"x\"", "not 'preset'")]
    #[case("width + 5", "true or false")]
    #[case("name > 5", "true or false")]
    #[case("name.slug()", "true or false")]
    #[case("", "CEL condition")]
    #[case("((((", "CEL condition")]
    #[case("kind == \"movie\"", "video, audio, image, folder, other")]
    #[case("kind in [\"video\", \"audoi\"]", "\"audio\", not \"audoi\"")]
    #[case("\"h264\" == codec", "\"H.264\", not \"h264\"")]
    #[case("format != \"mp4\"", "\"MP4\", not \"mp4\"")]
    fn bad_conditions_say_what_is_right(#[case] text: &str, #[case] words: &str) {
        let e = Condition::parse(text).unwrap_err();
        assert!(e.contains(words), "{e}");
    }

    #[rstest]
    #[case::brackets("(".repeat(100_000) + &")".repeat(100_000))]
    #[case::lists("[".repeat(100_000))]
    #[case::signs("!".repeat(3000) + "true")]
    #[case::length(format!("name == \"{}\"", "x".repeat(5000)))]
    #[case::loops("[1,2].all(a, [1,2].all(b, [1,2].all(c, a + b + c > 0)))".to_owned())]
    #[case::chain((0..1500).map(|_| "1").collect::<Vec<_>>().join("+") + " > 0")]
    fn a_condition_without_end_is_refused_at_once(#[case] text: String) {
        let start = std::time::Instant::now();
        let e = Condition::parse(&text).unwrap_err();
        assert!(start.elapsed().as_secs() < 5 && e.len() < 300, "{e}");
    }
}
