//! Formulas read from text.

use pest::Parser as _;
use pest::error::{ErrorVariant, InputLocation};
use pest::iterators::{Pair, Pairs};
use pest::pratt_parser::{Assoc, Op, PrattParser};

use super::{Error, Result, Span};

#[derive(pest_derive::Parser)]
#[grammar = "formula/grammar.pest"]
struct Grammar;

/// What a formula says.
#[derive(Debug, Clone, PartialEq)]
pub struct Expression {
    /// where it stands
    pub span: Span,
    /// what it is
    pub what: What,
}

/// A part of a formula.
#[derive(Debug, Clone, PartialEq)]
pub enum What {
    /// a number as it was typed
    Number(f64),
    /// no value
    Nothing,
    /// a raster
    Name(String),
    /// a sign before, or `not`
    Prefix(Prefix, Box<Expression>),
    /// two with a sign between
    Infix(Infix, Box<Expression>, Box<Expression>),
    /// `if`, `then`, `else`
    Choice(Box<[Expression; 3]>),
    /// a function of what stands in its brackets
    Call(String, Vec<Expression>),
    /// a figure of the cells around each, or of those of features
    Figure(String, Box<Expression>, Reach),
}

/// Which cells a figure is of.
#[derive(Debug, Clone, PartialEq)]
pub enum Reach {
    /// those within a distance
    Near(Distance),
    /// those of each feature of a layer: its name, and where it stands
    Layer(String, Span),
}

/// A distance as it was typed.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum Distance {
    /// on the ground
    Metres(f64),
    /// in cells
    Cells(f64),
}

impl Distance {
    /// In cells of this size.
    pub fn in_cells(self, cell_m: f64) -> f64 {
        match self {
            Self::Metres(m) => m / cell_m,
            Self::Cells(cells) => cells,
        }
    }
}

/// Functions of a layer alone.
pub(super) const OF_LAYERS: [&str; 3] = ["on", "distance", "value"];

/// A foot, metres.
const FOOT: f64 = 0.3048;

/// What stands before.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Prefix {
    /// `-`
    Minus,
    /// `not`
    Not,
}

/// What stands between.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
#[allow(missing_docs)]
pub enum Infix {
    Or,
    And,
    AtMost,
    AtLeast,
    Unequal,
    Below,
    Above,
    Equal,
    Plus,
    Less,
    Times,
    Over,
    Power,
}

/// The longest formula, characters.
pub const LONGEST: usize = 4000;
/// The deepest nesting of brackets, choices and signs.
const DEEPEST: usize = 60;
/// The most operations.
pub const MOST_OPERATIONS: usize = 500;

fn pratt() -> PrattParser<Rule> {
    let left = |rule| Op::infix(rule, Assoc::Left);
    PrattParser::new()
        .op(left(Rule::either))
        .op(left(Rule::both))
        .op(Op::prefix(Rule::not))
        .op(left(Rule::at_most)
            | left(Rule::at_least)
            | left(Rule::unequal)
            | left(Rule::below)
            | left(Rule::above)
            | left(Rule::equal))
        .op(left(Rule::plus) | left(Rule::less))
        .op(left(Rule::times) | left(Rule::over))
        .op(Op::prefix(Rule::minus))
        .op(Op::infix(Rule::power, Assoc::Right))
}

fn span_of(pair: &Pair<Rule>) -> Span {
    Span { from: pair.as_span().start(), to: pair.as_span().end() }
}

/// Reads a formula.
///
/// # Errors
/// [`Error`] with the place in bytes and what was expected there.
pub fn parse(text: &str) -> Result<Expression> {
    if text.trim().is_empty() {
        return Err(Error::at(
            Span { from: 0, to: text.len() },
            "type a formula, such as log10(contributing_area)",
        ));
    }
    if text.chars().count() > LONGEST {
        let what = format!("a formula has {LONGEST} characters at most");
        return Err(Error::at(Span { from: 0, to: text.len() }, what));
    }
    nested(text)?;
    let pairs = Grammar::parse(Rule::formula, text).map_err(|e| explained(&e, text))?;
    let found = expression(pairs, &pratt())?;
    let count = found.operations();
    if count > MOST_OPERATIONS {
        let what = format!(
            "a formula has {MOST_OPERATIONS} operations at most, and this one has {count}: keep parts of it as rasters"
        );
        return Err(Error::at(found.span, what));
    }
    Ok(found)
}

/// Refuses what is nested so deeply that nobody can read it, before it is read.
fn nested(text: &str) -> Result<()> {
    let (mut open, mut signs): (Vec<usize>, usize) = (Vec::new(), 0);
    let mut choices = 0;
    for (at, word) in words(text) {
        match word {
            "(" => open.push(at),
            ")" if open.pop().is_none() => {
                return Err(Error::at(
                    Span { from: at, to: at + 1 },
                    "this bracket closes none that was opened",
                ));
            }
            _ => {}
        }
        signs =
            if matches!(word, "-" | "−" | "^") || word.eq_ignore_ascii_case("not") { signs + 1 } else { 0 };
        choices += usize::from(word.eq_ignore_ascii_case("if"));
        if open.len() > DEEPEST || signs > DEEPEST || choices > DEEPEST {
            let what = format!("this is nested more than {DEEPEST} deep: keep parts of it as rasters");
            return Err(Error::at(Span { from: at, to: at + word.len() }, what));
        }
    }
    match open.last() {
        Some(&at) => Err(Error::at(Span { from: at, to: at + 1 }, "this bracket is never closed")),
        None => Ok(()),
    }
}

/// Words and signs with their places, bytes.
fn words(text: &str) -> impl Iterator<Item = (usize, &str)> {
    let is_word = |c: char| c.is_alphanumeric() || c == '_' || c == '.';
    let mut at = 0;
    std::iter::from_fn(move || {
        let rest = &text[at..];
        let skipped = rest.len() - rest.trim_start().len();
        at += skipped;
        let rest = &text[at..];
        let first = rest.chars().next()?;
        let long = match is_word(first) {
            true => rest.find(|c| !is_word(c)).unwrap_or(rest.len()),
            false => first.len_utf8(),
        };
        let found = (at, &rest[..long]);
        at += long;
        Some(found)
    })
}

/// What a rule is called where it was expected.
fn called(rule: Rule) -> Option<&'static str> {
    Some(match rule {
        Rule::expression
        | Rule::name
        | Rule::number
        | Rule::call
        | Rule::choice
        | Rule::bracket
        | Rule::nothing
        | Rule::r#if => "a number, a raster, a function or “(”",
        Rule::then => "“then”",
        Rule::otherwise => "“else”",
        Rule::minus | Rule::not | Rule::within | Rule::passed | Rule::inside => return None,
        Rule::amount => "a distance such as 250 m",
        Rule::measure => "m, km, ft or cells",
        Rule::layer => "the name of a layer",
        Rule::EOI => "the end",
        _ => "a sign such as +, *, < or “and”",
    })
}

fn explained(error: &pest::error::Error<Rule>, text: &str) -> Error {
    let at = match error.location {
        InputLocation::Pos(at) | InputLocation::Span((at, _)) => at,
    };
    let mut expected: Vec<&str> = match &error.variant {
        ErrorVariant::ParsingError { positives, .. } => positives.iter().filter_map(|r| called(*r)).collect(),
        ErrorVariant::CustomError { .. } => Vec::new(),
    };
    expected.sort_unstable();
    expected.dedup();
    let rest = text[at..].trim_start();
    let at = text.len() - rest.len();
    let found = words(&text[at..]).next().map_or("", |(_, word)| word);
    let expected = if expected.is_empty() { "something else".into() } else { expected.join(", or ") };
    let what = match found {
        "" => format!("the formula ends here; {expected} is expected"),
        word if word.eq_ignore_ascii_case("then") || word.eq_ignore_ascii_case("else") => {
            format!("“{word}” belongs to an “if … then … else …”; {expected} is expected here")
        }
        word => format!("“{word}” cannot stand here; {expected} is expected"),
    };
    Error::at(Span { from: at, to: at + found.len().max(usize::from(at < text.len())) }, what)
}

fn expression(pairs: Pairs<Rule>, how: &PrattParser<Rule>) -> Result<Expression> {
    how.map_primary(|pair| primary(pair, how))
        .map_prefix(|sign, of| {
            let of = of?;
            let span = Span { from: sign.as_span().start(), to: of.span.to };
            let sign = if sign.as_rule() == Rule::not { Prefix::Not } else { Prefix::Minus };
            Ok(Expression { span, what: What::Prefix(sign, Box::new(of)) })
        })
        .map_infix(|left, sign, right| {
            let (left, right) = (left?, right?);
            let span = Span { from: left.span.from, to: right.span.to };
            let sign = match sign.as_rule() {
                Rule::either => Infix::Or,
                Rule::both => Infix::And,
                Rule::at_most => Infix::AtMost,
                Rule::at_least => Infix::AtLeast,
                Rule::unequal => Infix::Unequal,
                Rule::below => Infix::Below,
                Rule::above => Infix::Above,
                Rule::equal => Infix::Equal,
                Rule::plus => Infix::Plus,
                Rule::less => Infix::Less,
                Rule::times => Infix::Times,
                Rule::over => Infix::Over,
                _ => Infix::Power,
            };
            Ok(Expression { span, what: What::Infix(sign, Box::new(left), Box::new(right)) })
        })
        .parse(pairs.filter(|pair| pair.as_rule() != Rule::EOI))
}

fn primary(pair: Pair<Rule>, how: &PrattParser<Rule>) -> Result<Expression> {
    let span = span_of(&pair);
    let what = match pair.as_rule() {
        Rule::number => {
            let typed = pair.as_str();
            let value: f64 = typed.parse().map_err(|_| Error::at(span, format!("“{typed}” is no number")))?;
            if !value.is_finite() {
                return Err(Error::at(span, format!("“{typed}” is too large a number")));
            }
            What::Number(value)
        }
        Rule::nothing => What::Nothing,
        Rule::name => What::Name(pair.as_str().to_owned()),
        Rule::choice => {
            let parts = pair.into_inner().filter(|part| part.as_rule() == Rule::expression);
            let mut parts = parts.map(|part| expression(part.into_inner(), how));
            let mut next = || parts.next().unwrap_or(Err(Error::at(span, "an “if” needs “then” and “else”")));
            What::Choice(Box::new([next()?, next()?, next()?]))
        }
        Rule::call => {
            let mut parts = pair.into_inner();
            let name = parts.next().map_or(String::new(), |name| name.as_str().to_owned());
            let (mut arguments, mut among) = (Vec::new(), None);
            for part in parts {
                match part.as_rule() {
                    Rule::near | Rule::along => among = Some(reach(part)?),
                    _ => arguments.push(expression(part.into_inner(), how)?),
                }
            }
            match (among, arguments.pop()) {
                (Some(among), Some(of)) => What::Figure(name, Box::new(of), among),
                (_, last) => {
                    arguments.extend(last);
                    What::Call(name, arguments)
                }
            }
        }
        // A bracket, or the whole formula: what is in it.
        Rule::bracket => {
            let inner = pair.into_inner().next().map(|part| expression(part.into_inner(), how));
            return inner.unwrap_or(Err(Error::at(span, "there is nothing in the brackets")));
        }
        _ => return expression(pair.into_inner(), how),
    };
    Ok(Expression { span, what })
}

/// Which cells a figure is of.
fn reach(pair: Pair<Rule>) -> Result<Reach> {
    let (span, near) = (span_of(&pair), pair.as_rule() == Rule::near);
    let parts: Vec<Pair<Rule>> = pair.into_inner().skip(1).collect();
    let broken = || Error::at(span, "a distance or a layer is expected");
    let first = parts.first().ok_or_else(broken)?;
    if !near {
        return Ok(Reach::Layer(first.as_str().to_owned(), span_of(first)));
    }
    let amount: f64 = first.as_str().parse().map_err(|_| broken())?;
    let typed = Span { from: first.as_span().start(), to: span.to };
    if !amount.is_finite() || amount <= 0.0 {
        return Err(Error::at(typed, "a distance is greater than 0"));
    }
    let measure = parts.get(1).map_or(String::new(), |m| m.as_str().to_ascii_lowercase());
    Ok(Reach::Near(match measure.as_str() {
        "km" => Distance::Metres(amount * 1000.0),
        "ft" => Distance::Metres(amount * FOOT),
        "m" => Distance::Metres(amount),
        _ => Distance::Cells(amount),
    }))
}

impl Expression {
    /// What stands directly in it.
    pub fn parts(&self) -> Vec<&Expression> {
        match &self.what {
            What::Number(_) | What::Nothing | What::Name(_) => Vec::new(),
            What::Prefix(_, of) => vec![of],
            What::Infix(_, a, b) => vec![a, b],
            What::Choice(all) => all.iter().collect(),
            What::Call(_, all) => all.iter().collect(),
            What::Figure(_, of, _) => vec![of],
        }
    }

    /// Operations in it.
    fn operations(&self) -> usize {
        let own = usize::from(!matches!(self.what, What::Number(_) | What::Nothing | What::Name(_)));
        own + self.parts().into_iter().map(Self::operations).sum::<usize>()
    }

    /// Names of rasters in it, each once, in the order in which they come.
    pub fn names(&self) -> Vec<&str> {
        let mut out = Vec::new();
        self.collect(&mut out);
        out
    }

    fn collect<'a>(&'a self, out: &mut Vec<&'a str>) {
        match &self.what {
            What::Name(name) if !out.contains(&name.as_str()) => out.push(name),
            // What stands in its brackets is a layer.
            What::Call(name, _) if OF_LAYERS.contains(&name.as_str()) => return,
            _ => {}
        }
        for part in self.parts() {
            part.collect(out);
        }
    }

    /// Names of layers in it, each once, in the order in which they come.
    pub fn layers(&self) -> Vec<&str> {
        let mut out = Vec::new();
        self.collect_layers(&mut out);
        out
    }

    fn collect_layers<'a>(&'a self, out: &mut Vec<&'a str>) {
        let found = match &self.what {
            What::Figure(_, _, Reach::Layer(name, _)) => Some(name),
            What::Call(name, all) if OF_LAYERS.contains(&name.as_str()) => match all.first().map(|a| &a.what)
            {
                Some(What::Name(name)) => Some(name),
                _ => None,
            },
            _ => None,
        };
        out.extend(
            found.map(String::as_str).filter(|name| !out.contains(name)).into_iter().collect::<Vec<_>>(),
        );
        for part in self.parts() {
            part.collect_layers(out);
        }
    }
}
