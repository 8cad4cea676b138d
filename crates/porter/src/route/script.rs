//! Expressions in CEL, the Common Expression Language, with its extension for texts and a few functions of ours: conditions
//! and names are written in them. Bounded: what a configuration says is worked out for every arrival, and must come to an
//! end.

use super::fields::{self, Field, Subject, Value as Known, nearest};
use cel::common::ast::{Expr, IdedExpr, LiteralValue, operators};
use cel::extractors::This;
use cel::objects::{Key, Map};
use cel::{Context, Env, ExecutionError, Program, Value};
use regex_lite::RegexBuilder;
use std::sync::{Arc, LazyLock};

/// Longest expression, in bytes.
pub const MAX_LENGTH: usize = 4000;
/// Deepest nesting of brackets and of operators.
pub const MAX_DEPTH: usize = 24;
/// Deepest nesting of `all`, `exists`, `map` and `filter`: each multiplies the work by the length of its list.
pub const MAX_LOOPS: usize = 2;
/// Longest text that a function gives.
const MAX_TEXT: usize = 4000;

/// A checked expression.
pub struct Script {
    text: String,
    program: Program,
}

impl std::fmt::Debug for Script {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "Script({:?})", self.text)
    }
}

/// What is not right about an expression.
#[derive(Debug)]
pub enum Wrong {
    /// It is none at all.
    Form,
    /// What would be right.
    Wanted(String),
    /// Two values in it do not go together.
    Types,
}

/// What an expression gives.
#[derive(Clone, Debug, PartialEq)]
pub enum Gives {
    True(bool),
    Known(Known),
    /// Something else, by its name in the language.
    Other(String),
}

impl Script {
    /// Parses, and tries it with values of the right types; gives what came of that as well, if anything did: a value that
    /// only a real arrival has may be needed.
    pub fn parse(text: &str) -> Result<(Script, Option<Gives>), Wrong> {
        bounded(text).map_err(Wrong::Wanted)?;
        // The parser reports by panicking on some inputs; an expression must not take the program down.
        let Some(Ok(program)) = media::guard::catch(|| Program::compile(text)) else {
            return Err(Wrong::Form);
        };
        let mut walk = Walk::default();
        walk.expression(&program.expression().expr, 0, 0).map_err(Wrong::Wanted)?;
        let script = Script { text: text.to_owned(), program };
        script.check_names(&walk.own).map_err(Wrong::Wanted)?;
        match script.tried() {
            Ok(gives) => Ok((script, Some(gives))),
            Err(Some(e)) if is_of_form(&e) => Err(Wrong::Types),
            Err(Some(ExecutionError::NoSuchKey(key))) if script.has_fixed_keys() => {
                let keys = ["codec", "rate", "channels", "layout", "language"];
                Err(Wrong::Wanted(match nearest(&key, keys) {
                    Some(near) => format!("'{near}', not '{key}'"),
                    None => format!("of a sound one of {}, not '{key}'", keys.join(", ")),
                }))
            }
            Err(_) => Ok((script, None)),
        }
    }

    /// `own`: names that its loops give.
    fn check_names(&self, own: &[String]) -> Result<(), String> {
        let used = self.program.references();
        let known = fields::names(true);
        for unknown in used.variables() {
            if fields::find(unknown).is_none() && !own.iter().any(|o| o == unknown) {
                let near = nearest(unknown, known.iter().copied());
                return Err(match near {
                    Some(near) => format!("'{near}', not '{unknown}'"),
                    None => format!("names of these, not '{unknown}': {}", known.join(", ")),
                });
            }
        }
        Ok(())
    }

    /// Every name behind a dot is known when it is read: nothing in it is asked of what only a file has.
    fn has_fixed_keys(&self) -> bool {
        let fields = self.fields();
        fields.iter().any(|f| f.name == "sounds")
            && !fields.iter().any(|f| ["tags", "sidecar", "parts"].contains(&f.name))
    }

    pub fn text(&self) -> &str {
        &self.text
    }

    /// The fields that it asks for.
    pub fn fields(&self) -> Vec<&'static Field> {
        let used = self.program.references();
        let mut all: Vec<&'static Field> = used.variables().into_iter().filter_map(fields::find).collect();
        all.sort_by_key(|f| f.name);
        all
    }

    /// What it gives for an arrival. The error says why that could not be told (a key that is not there, a division by 0).
    pub fn of(&self, subject: &Subject<'_>) -> Result<Gives, String> {
        self.with(|f| f.get(subject))
            .map_err(|e| e.map_or_else(|| "it cannot be worked out".to_owned(), |e| e.to_string()))
    }

    fn tried(&self) -> Result<Gives, Option<ExecutionError>> {
        self.with(|f| (f.sample)())
    }

    /// The same with values from elsewhere; `None` in place of an error: the language's own program broke.
    pub fn with(&self, get: impl Fn(&Field) -> Known) -> Result<Gives, Option<ExecutionError>> {
        let mut context = context();
        for field in self.fields() {
            context.add_variable_from_value(field.name, value(get(field)));
        }
        let result = media::guard::catch(|| self.program.execute(&context)).ok_or(None)?;
        Ok(match result.map_err(Some)? {
            Value::Bool(b) => Gives::True(b),
            Value::String(t) => Gives::Known(Known::Text(t.as_ref().clone())),
            Value::Int(n) => Gives::Known(Known::Int(n)),
            Value::UInt(n) => Gives::Known(Known::Int(n.try_into().unwrap_or(i64::MAX))),
            Value::Float(x) => Gives::Known(Known::Float(x)),
            other => Gives::Other(other.type_of().to_string()),
        })
    }
}

/// As the language has it.
fn value(known: Known) -> Value {
    match known {
        Known::Text(t) => Value::String(t.into()),
        Known::Int(n) => Value::Int(n),
        Known::Float(x) => Value::Float(x),
        Known::List(all) => Value::List(Arc::new(all.into_iter().map(value).collect())),
        Known::Record(all) => {
            let all = all.into_iter().map(|(k, v)| (Key::String(Arc::new(k)), value(v)));
            Value::Map(Map { map: Arc::new(all.collect()) })
        }
    }
}

/// Whether an error would come with any values of these types.
fn is_of_form(e: &ExecutionError) -> bool {
    !matches!(
        e,
        ExecutionError::FunctionError { .. }
            | ExecutionError::NoSuchKey(_)
            | ExecutionError::DivisionByZero(_)
            | ExecutionError::RemainderByZero(_)
            | ExecutionError::Overflow(..)
            | ExecutionError::IndexOutOfBounds(_)
    )
}

/// The language as it is known here.
fn context() -> Context<'static, 'static> {
    static ENV: LazyLock<Arc<Env>> = LazyLock::new(|| {
        let mut env = Env::stdlib();
        // It declares each name once.
        let _ = env.add_extension(cel::extensions::strings);
        Arc::new(env)
    });
    let mut context = Context::with_env(ENV.clone());
    let mut told = Ok(());
    for (_, add) in FUNCTIONS {
        told = told.and(add(&mut context));
    }
    debug_assert!(told.is_ok());
    context
}

type Adds = fn(&mut Context<'_, '_>) -> Result<(), cel::DeclarationError>;

/// Our own functions, by the way that they are written. To add one: a line here and in docs/config.md.
pub static FUNCTIONS: &[(&str, Adds)] = &[
    ("pad", |c| c.add_function("pad", pad)),
    ("slug", |c| c.add_function("slug", |This(t): This<Arc<String>>| slug(&t))),
    ("part", |c| {
        c.add_function("part", |This(t): This<Arc<String>>, sign: Arc<String>, n: i64| part(&t, &sign, n))
    }),
    ("find", |c| c.add_function("find", |This(t): This<Arc<String>>, p: Arc<String>| found(&t, &p))),
    ("ifEmpty", |c| {
        c.add_function(
            "ifEmpty",
            |This(t): This<Arc<String>>, other: Arc<String>| {
                if t.is_empty() { other.to_string() } else { t.to_string() }
            },
        )
    }),
];

/// Zeros in front, up to so many digits.
fn pad(This(v): This<Value>, digits: i64) -> Result<Value, ExecutionError> {
    let text = match v {
        Value::Int(n) => n.to_string(),
        Value::UInt(n) => n.to_string(),
        Value::String(t) => t.to_string(),
        _ => return Err(ExecutionError::function_error("pad", "it takes a text or a whole number")),
    };
    let missing = usize::try_from(digits).unwrap_or(0).min(40).saturating_sub(text.chars().count());
    Ok(Value::String(Arc::new("0".repeat(missing) + &text)))
}

/// Small letters and digits, all else between them as one dash.
fn slug(text: &str) -> String {
    let mut out = String::new();
    for c in text.chars().take(MAX_TEXT).flat_map(char::to_lowercase) {
        if c.is_alphanumeric() {
            out.push(c);
        } else if !out.is_empty() && !out.ends_with('-') {
            out.push('-');
        }
    }
    out.trim_end_matches('-').to_owned()
}

/// The piece of this number between signs, from 1; empty where there are not as many.
fn part(text: &str, sign: &str, n: i64) -> String {
    let n = usize::try_from(n).ok().and_then(|n| n.checked_sub(1));
    match n {
        Some(n) if !sign.is_empty() => text.split(sign).nth(n).unwrap_or("").to_owned(),
        _ => String::new(),
    }
}

/// A pattern that comes to an end, whatever it is tried on.
pub fn pattern(text: &str) -> Result<regex_lite::Regex, String> {
    RegexBuilder::new(text).size_limit(1 << 16).nest_limit(20).build().map_err(|e| e.to_string())
}

/// What a pattern finds first: its first group if it has one, otherwise all of it; empty where it finds nothing.
fn found(text: &str, wanted: &str) -> Result<Value, ExecutionError> {
    let pattern = pattern(wanted).map_err(|e| ExecutionError::function_error("find", e))?;
    let groups = pattern.captures(text);
    let group = groups
        .and_then(|g| g.get(if pattern.captures_len() > 1 { 1 } else { 0 }).map(|m| m.as_str().to_owned()));
    Ok(Value::String(Arc::new(group.unwrap_or_default())))
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

/// Most parts of an expression.
const MAX_NODES: usize = 2000;
/// A chain of && or + is as deep as it is long.
const MAX_TREE: usize = 200;

impl Walk {
    fn expression(&mut self, e: &Expr, depth: usize, loops: usize) -> Result<(), String> {
        self.nodes += 1;
        if depth > MAX_TREE || self.nodes > MAX_NODES {
            return Err(format!("a simpler expression: at most {MAX_NODES} parts, {MAX_TREE} deep"));
        }
        if let Expr::Comprehension(c) = e {
            self.own.extend([&c.iter_var, &c.accu_var].into_iter().chain(&c.iter_var2).cloned());
        }
        let mut each = |e: &IdedExpr, loops| self.expression(&e.expr, depth + 1, loops);
        match e {
            Expr::Call(c) => {
                check_values(c.func_name.as_str(), &c.args)?;
                check_pattern(c.func_name.as_str(), c.args.last())?;
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

/// A pattern that is none is told when the configuration is read.
fn check_pattern(function: &str, last: Option<&IdedExpr>) -> Result<(), String> {
    if function != "find" {
        return Ok(());
    }
    match last.map(|e| &e.expr) {
        Some(Expr::Literal(LiteralValue::String(text))) => pattern(text.inner())
            .map(|_| ())
            .map_err(|e| format!("a pattern in find(), such as \"EP([0-9]+)\" ({e})")),
        _ => Ok(()),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    fn words(text: &str, stem: &str) -> String {
        let (script, _) = Script::parse(text).unwrap_or_else(|e| panic!("{text}: {e:?}"));
        let get = |f: &Field| match f.name {
            "stem" => Known::Text(stem.into()),
            "job" => Known::Int(42),
            _ => (f.sample)(),
        };
        match script.with(get) {
            Ok(Gives::Known(k)) => k.words(),
            other => format!("{other:?}"),
        }
    }

    #[rstest]
    #[case("stem.upperAscii()", "Ep03_sc12", "EP03_SC12")]
    #[case("stem.replace('_', ' ').trim()", "_a_b_", "a b")]
    #[case("stem.substring(0, 4)", "Bittern", "Bitt")]
    #[case("pad(job, 5)", "", "00042")]
    #[case("stem.find('SC([0-9]+)').pad(4)", "EP03_SC12_T4", "0012")]
    #[case("stem.find('T[0-9]')", "EP03_SC12_T4", "T4")]
    #[case("find(stem, 'Q')", "EP03", "")]
    #[case("stem.part('_', 2)", "EP03_SC12_T4", "SC12")]
    #[case("stem.part('_', 9) + stem.part('', 1) + stem.part('_', 0)", "EP03", "")]
    #[case("stem.slug()", "Über -- die Brücke (2)", "über-die-brücke-2")]
    #[case("reel.ifEmpty('no-reel')", "", "sample")]
    #[case("stem.find('Z').ifEmpty(stem)", "cup", "cup")]
    #[case("stem.startsWith('A') ? 'cam-a' : 'cam-b'", "A001", "cam-a")]
    fn texts_are_worked_on(#[case] text: &str, #[case] stem: &str, #[case] want: &str) {
        assert_eq!(words(text, stem), want);
    }

    #[rstest]
    #[case("stem.find('(')", "a pattern in find()")]
    #[case("stam.slug()", "'stem', not 'stam'")]
    #[case("stem.nothing()", "Types")]
    #[case("stem + 5", "Types")]
    #[case("stem.part(1)", "Types")]
    #[case("stem.", "Form")]
    fn what_is_wrong_is_told_when_it_is_read(#[case] text: &str, #[case] want: &str) {
        let e = format!("{:?}", Script::parse(text).unwrap_err());
        assert!(e.contains(want), "{e}");
    }

    #[test]
    fn what_only_some_arrivals_lack_is_no_fault() {
        let (script, gives) = Script::parse("int(stem.find('[0-9]+')) > 5 ? 'late' : 'early'").unwrap();
        assert_eq!(gives, None);
        let get = |f: &Field| if f.name == "stem" { Known::Text("shot 7".into()) } else { (f.sample)() };
        assert_eq!(script.with(get).unwrap(), Gives::Known(Known::Text("late".into())));
    }

    /// Patterns that grow without bound in other engines.
    #[test]
    fn patterns_come_to_an_end() {
        let start = std::time::Instant::now();
        assert_eq!(words("stem.find('(a*)*b')", &"a".repeat(3000)), "");
        assert!(Script::parse("stem.find('((((((a{100}){100}){100})))))')").is_err());
        assert!(start.elapsed().as_secs() < 5);
    }
}
