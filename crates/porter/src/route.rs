//! Which rules hold for an arrival. Conditions are in CEL, the Common Expression Language.

use cel::{Context, Program, Value};
use media::facts::Facts;
use std::path::Path;

/// What a condition may name.
pub const VARIABLES: &[(&str, &str)] = &[
    ("kind", "\"video\", \"audio\", \"image\" or \"other\""),
    ("format", "container or picture format, \"MP4\""),
    ("codec", "codec of the picture, or of the sound where there is no picture"),
    ("width", "picture width as shown, 0 without a picture"),
    ("height", "picture height as shown, 0 without a picture"),
    ("fps", "frames a second, 0.0 without a rate"),
    ("seconds", "duration in seconds"),
    ("bytes", "file size"),
    ("sound_tracks", "number of sound tracks"),
    ("channels", "channels of the first sound track, 0 without one"),
    ("captions", "number of caption tracks"),
    ("timecode", "start timecode, \"\" without one"),
    ("name", "file name with its extension"),
    ("extension", "extension in lower case, \"\" without one"),
    ("folder", "folder inside the watch folder, \"\" at its top"),
    ("watch", "name of the watch"),
];

/// A checked condition.
pub struct Condition {
    text: String,
    program: Program,
}

impl std::fmt::Debug for Condition {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "Condition({:?})", self.text)
    }
}

/// Where an arrival came from.
#[derive(Clone, Debug)]
pub struct Origin<'a> {
    pub watch: &'a str,
    /// Inside the watch folder.
    pub path: &'a Path,
}

impl Condition {
    /// The error says what would be right. A condition must give true or false for any facts.
    pub fn parse(text: &str) -> Result<Condition, String> {
        // The parser reports by panicking on some inputs; a condition must not take the program down.
        let parsed = std::panic::catch_unwind(|| Program::compile(text));
        let program = match parsed {
            Ok(Ok(p)) => p,
            Ok(Err(e)) => {
                let why = e.to_string();
                let why = why.lines().map(str::trim).find(|l| !l.is_empty()).unwrap_or("").to_owned();
                return Err(format!("a CEL condition such as kind == \"video\" && height >= 720 ({why})"));
            }
            Err(_) => return Err("a CEL condition such as kind == \"video\" && height >= 720".into()),
        };
        let used = program.references();
        if let Some(unknown) = used.variables().iter().find(|v| !VARIABLES.iter().any(|(k, _)| k == *v)) {
            let known: Vec<&str> = VARIABLES.iter().map(|v| v.0).collect();
            return Err(format!("names of these, not '{unknown}': {}", known.join(", ")));
        }
        let condition = Condition { text: text.to_owned(), program };
        condition.evaluate(&Sample).map_err(|e| format!("a condition that is true or false: {e}"))?;
        Ok(condition)
    }

    pub fn text(&self) -> &str {
        &self.text
    }

    /// Whether it holds. The error says why it could not be told (a key that is not there, a division by 0).
    pub fn holds(&self, facts: &Facts, origin: &Origin<'_>) -> Result<bool, String> {
        self.evaluate(&Known { facts, origin })
    }

    fn evaluate(&self, from: &dyn Variables) -> Result<bool, String> {
        let mut context = Context::default();
        for (name, _) in VARIABLES {
            context.add_variable_from_value(*name, from.get(name));
        }
        match self.program.execute(&context) {
            Ok(Value::Bool(b)) => Ok(b),
            Ok(other) => Err(format!("it gives {}, not true or false", other.type_of())),
            Err(e) => Err(e.to_string()),
        }
    }
}

trait Variables {
    fn get(&self, name: &str) -> Value;
}

fn text(s: impl Into<String>) -> Value {
    Value::String(s.into().into())
}

struct Known<'a> {
    facts: &'a Facts,
    origin: &'a Origin<'a>,
}

impl Variables for Known<'_> {
    fn get(&self, name: &str) -> Value {
        let f = self.facts;
        let picture = f.picture();
        let int = |n: u64| Value::Int(i64::try_from(n).unwrap_or(i64::MAX));
        let path = self.origin.path;
        match name {
            "kind" => text(f.kind.to_string()),
            "format" => text(f.format.clone()),
            "codec" => text(
                picture
                    .map(|v| v.codec.clone())
                    .or(f.audio.first().map(|a| a.codec.clone()))
                    .unwrap_or_default(),
            ),
            "width" => int(picture.map_or(0, |v| v.width.into())),
            "height" => int(picture.map_or(0, |v| v.height.into())),
            "fps" => Value::Float(picture.and_then(|v| v.rate).map_or(0.0, |r| r.value())),
            "seconds" => Value::Float(f.duration.map_or(0.0, |d| d.seconds)),
            "bytes" => int(f.bytes),
            "sound_tracks" => int(f.audio.len() as u64),
            "channels" => int(f.audio.first().map_or(0, |a| a.channels.into())),
            "captions" => int(f.captions.into()),
            "timecode" => text(f.timecode.as_ref().map_or(String::new(), |t| t.start.clone())),
            "name" => text(path.file_name().map_or(String::new(), |n| n.to_string_lossy().into_owned())),
            "extension" => {
                text(path.extension().map_or(String::new(), |e| e.to_string_lossy().to_lowercase()))
            }
            "folder" => text(path.parent().map_or(String::new(), |p| p.to_string_lossy().into_owned())),
            "watch" => text(self.origin.watch),
            _ => Value::Null,
        }
    }
}

/// Stands in for facts when a condition is checked: values of the right types.
struct Sample;

impl Variables for Sample {
    fn get(&self, name: &str) -> Value {
        match name {
            "width" => Value::Int(1920),
            "height" => Value::Int(1080),
            "bytes" | "sound_tracks" | "channels" | "captions" => Value::Int(1),
            "fps" | "seconds" => Value::Float(25.0),
            "kind" => text("video"),
            _ => text("sample"),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("kind == \"video\" && height >= 720")]
    #[case("name.startsWith(\"A0\") || extension in [\"mov\", \"mp4\"]")]
    #[case("fps > 49.0 ? width > 1000 : true")]
    fn good_conditions_parse(#[case] text: &str) {
        Condition::parse(text).unwrap();
    }

    #[rstest]
    #[case("kind = \"video\"", "CEL condition")]
    #[case("hight > 5", "not 'hight'")]
    #[case("width + 5", "true or false")]
    #[case("name > 5", "true or false")]
    #[case("", "CEL condition")]
    #[case("((((", "CEL condition")]
    fn bad_conditions_say_what_is_right(#[case] text: &str, #[case] words: &str) {
        let e = Condition::parse(text).unwrap_err();
        assert!(e.contains(words), "{e}");
    }
}
