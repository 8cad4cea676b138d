//! Conditions in CEL, bounded: what a configuration says is worked out for every arrival, and must come to an end.

use super::fields::{self, Field, Subject, Value as Known, nearest};
use cel::common::ast::{Expr, IdedExpr, LiteralValue, operators};
use cel::{Context, Program, Value};

/// Longest condition, in bytes.
pub const MAX_LENGTH: usize = 4000;
/// Deepest nesting of brackets and of operators.
pub const MAX_DEPTH: usize = 24;
/// Deepest nesting of `all`, `exists`, `map` and `filter`: each multiplies the work by the length of its list.
pub const MAX_LOOPS: usize = 2;

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

const EXAMPLE: &str = "kind == \"video\" && height >= 720";

impl Condition {
    /// The error says what would be right. A condition must give true or false for any facts.
    pub fn parse(text: &str) -> Result<Condition, String> {
        bounded(text)?;
        // The parser reports by panicking on some inputs; a condition must not take the program down.
        let parsed = media::guard::catch(|| Program::compile(text));
        let program = match parsed {
            Some(Ok(p)) => p,
            Some(Err(_)) if has_lone_equals(text) => {
                return Err(format!("'==' where two values are compared, as in {EXAMPLE}"));
            }
            Some(Err(_)) | None => {
                return Err(format!("a CEL condition such as {EXAMPLE}"));
            }
        };
        let mut walk = Walk::default();
        walk.expression(&program.expression().expr, 0, 0)?;
        let condition = Condition { text: text.to_owned(), program };
        condition.check_names(&walk.own)?;
        condition
            .evaluate(|f| (f.sample)())
            .map_err(|e| format!("a condition that is true or false ({})", plain(&e)))?;
        Ok(condition)
    }

    /// `own`: names that its loops give.
    fn check_names(&self, own: &[String]) -> Result<(), String> {
        let used = self.program.references();
        let known = fields::names(true);
        for unknown in used.variables() {
            if !known.contains(&unknown) && !own.iter().any(|o| o == unknown) {
                let near = nearest(unknown, known.iter().copied());
                return Err(match near {
                    Some(near) => format!("'{near}', not '{unknown}'"),
                    None => format!("names of these, not '{unknown}': {}", known.join(", ")),
                });
            }
        }
        Ok(())
    }

    pub fn text(&self) -> &str {
        &self.text
    }

    /// Whether it holds. The error says why it could not be told (a key that is not there, a division by 0).
    pub fn holds(&self, subject: &Subject<'_>) -> Result<bool, String> {
        self.evaluate(|f| (f.get)(subject))
    }

    fn evaluate(&self, get: impl Fn(&Field) -> Known) -> Result<bool, String> {
        let mut context = Context::default();
        let used = self.program.references();
        for name in used.variables() {
            let Some(field) = fields::find(name) else { continue };
            let value = match get(field) {
                Known::Text(t) => Value::String(t.into()),
                Known::Int(n) => Value::Int(n),
                Known::Float(x) => Value::Float(x),
            };
            context.add_variable_from_value(field.name, value);
        }
        let result = media::guard::catch(|| self.program.execute(&context))
            .ok_or_else(|| "it cannot be worked out".to_owned())?;
        match result {
            Ok(Value::Bool(b)) => Ok(b),
            Ok(other) => Err(format!("it gives {}, not true or false", other.type_of())),
            Err(e) => Err(e.to_string()),
        }
    }
}

/// An error of the language without its inner words.
fn plain(e: &str) -> String {
    if e.contains("no such overload") || e.to_lowercase().contains("overload") {
        return "two values in it do not go together: a text and a number, say".into();
    }
    e.to_owned()
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

/// What can be refused before it is parsed.
fn bounded(text: &str) -> Result<(), String> {
    if text.len() > MAX_LENGTH {
        return Err(format!("at most {MAX_LENGTH} bytes; this has {}", text.len()));
    }
    let (mut depth, mut quote) = (0usize, None);
    let mut chars = text.chars();
    let mut signs = 0;
    while let Some(c) = chars.next() {
        match (quote, c) {
            (Some(_), '\\') => _ = chars.next(),
            (Some(q), c) if c == q => quote = None,
            (Some(_), _) => (),
            (None, '"' | '\'') => quote = Some(c),
            (None, '(' | '[' | '{') => depth += 1,
            (None, ')' | ']' | '}') => depth = depth.saturating_sub(1),
            _ => (),
        }
        // Each sign in front of a value is a level as well.
        signs = if quote.is_none() && matches!(c, '!' | '-') { signs + 1 } else { 0 };
        if depth + signs > MAX_DEPTH {
            return Err(format!("brackets and signs nested at most {MAX_DEPTH} deep"));
        }
    }
    Ok(())
}

#[derive(Default)]
struct Walk {
    nodes: usize,
    own: Vec<String>,
}

/// Most parts of a condition.
const MAX_NODES: usize = 2000;
/// A chain of && or + is as deep as it is long.
const MAX_TREE: usize = 200;

impl Walk {
    fn expression(&mut self, e: &Expr, depth: usize, loops: usize) -> Result<(), String> {
        self.nodes += 1;
        if depth > MAX_TREE || self.nodes > MAX_NODES {
            return Err(format!("a simpler condition: at most {MAX_NODES} parts, {MAX_TREE} deep"));
        }
        if let Expr::Comprehension(c) = e {
            self.own.extend([&c.iter_var, &c.accu_var].into_iter().chain(&c.iter_var2).cloned());
        }
        let mut each = |e: &IdedExpr, loops| self.expression(&e.expr, depth + 1, loops);
        match e {
            Expr::Call(c) => {
                check_values(c.func_name.as_str(), &c.args)?;
                c.target.iter().try_for_each(|t| each(t, loops))?;
                c.args.iter().try_for_each(|a| each(a, loops))
            }
            Expr::Comprehension(c) => {
                if loops >= MAX_LOOPS {
                    return Err(format!(
                        "'all', 'exists', 'map' and 'filter' inside each other at most {MAX_LOOPS} deep"
                    ));
                }
                each(&c.iter_range, loops)?;
                [&c.accu_init, &c.loop_cond, &c.loop_step, &c.result]
                    .into_iter()
                    .try_for_each(|x| each(x, loops + 1))
            }
            Expr::List(l) => l.elements.iter().try_for_each(|x| each(x, loops)),
            Expr::Select(s) => each(&s.operand, loops),
            Expr::Map(m) => m.entries.iter().try_for_each(|x| match &x.expr {
                cel::common::ast::EntryExpr::MapEntry(m) => {
                    each(&m.key, loops).and_then(|()| each(&m.value, loops))
                }
                cel::common::ast::EntryExpr::StructField(f) => each(&f.value, loops),
            }),
            _ => Ok(()),
        }
    }
}

/// A comparison with a word that the field can never be.
fn check_values(function: &str, args: &[IdedExpr]) -> Result<(), String> {
    let is_comparison = matches!(function, operators::EQUALS | operators::NOT_EQUALS | operators::IN);
    let [a, b] = args else { return Ok(()) };
    let field = |e: &IdedExpr| match &e.expr {
        Expr::Ident(name) => fields::find(name).filter(|f| f.values.is_some()),
        _ => None,
    };
    let (found, other) = field(a).map_or((field(b), a), |f| (Some(f), b));
    let Some(field) = found else { return Ok(()) };
    if !is_comparison {
        return Ok(());
    }
    let values = field.values.map_or_else(Vec::new, |v| v());
    let check = |e: &IdedExpr| {
        let Expr::Literal(LiteralValue::String(word)) = &e.expr else { return Ok(()) };
        let word = word.inner();
        // Uncompressed sound and codecs without a name are of too many kinds to be listed.
        let open = field.name == "codec"
            && (word.starts_with("PCM") || word.starts_with('\'') || word.starts_with("uncompressed"));
        if open || values.contains(&word) {
            return Ok(());
        }
        Err(match nearest(word, values.iter().copied()) {
            Some(near) => format!("\"{near}\", not \"{word}\": a file's {} is never that", field.name),
            None => format!("a {} that a file can have, not \"{word}\": {}", field.name, values.join(", ")),
        })
    };
    match &other.expr {
        Expr::List(l) => l.elements.iter().try_for_each(check),
        _ => check(other),
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
    #[case("", "CEL condition")]
    #[case("((((", "CEL condition")]
    #[case("kind == \"movie\"", "video, audio, image, other")]
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
