//! Formulas checked for what they mean: names, functions, units.

use super::compute::Node;
use super::{Error, Expression, Infix, Kind, Prefix, Result, Span, Unit, What, parse};

/// Functions of one number.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum One {
    Ln,
    Log10,
    Sqrt,
    Exp,
    Abs,
    Sin,
    Cos,
    Tan,
    Round,
    Floor,
    Ceil,
}

/// Figures over several numbers, or over a whole raster.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Over {
    Min,
    Max,
    Mean,
    Sum,
    Range,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Function {
    One(One),
    Over(Over),
    Atan2,
}

const FUNCTIONS: [(&str, Function, &str); 17] = [
    ("ln", Function::One(One::Ln), "natural logarithm"),
    ("log10", Function::One(One::Log10), "decimal logarithm"),
    ("sqrt", Function::One(One::Sqrt), "square root"),
    ("exp", Function::One(One::Exp), "power of e"),
    ("abs", Function::One(One::Abs), "without its sign"),
    ("sin", Function::One(One::Sin), "sine of an angle in radians"),
    ("cos", Function::One(One::Cos), "cosine of an angle in radians"),
    ("tan", Function::One(One::Tan), "tangent of an angle in radians"),
    ("atan2", Function::Atan2, "angle of y and x, radians from -π to π"),
    ("round", Function::One(One::Round), "nearest whole number, halves away from zero"),
    ("floor", Function::One(One::Floor), "next whole number below"),
    ("ceil", Function::One(One::Ceil), "next whole number above"),
    ("min", Function::Over(Over::Min), "smallest of several; of one, over the whole raster"),
    ("max", Function::Over(Over::Max), "largest of several; of one, over the whole raster"),
    ("mean", Function::Over(Over::Mean), "mean of several; of one, over the whole raster"),
    ("sum", Function::Over(Over::Sum), "sum of several; of one, over the whole raster"),
    ("range", Function::Over(Over::Range), "largest less smallest of several; of one, over the whole raster"),
];

/// Names of functions, and what they give.
pub fn functions() -> impl Iterator<Item = (&'static str, &'static str)> {
    FUNCTIONS.into_iter().map(|(name, _, told)| (name, told))
}

fn function(name: &str) -> Option<Function> {
    FUNCTIONS.iter().find(|(known, ..)| *known == name).map(|(_, function, _)| *function)
}

/// A formula whose names and units are known.
#[derive(Debug, Clone)]
pub struct Checked {
    pub(super) node: Node,
    /// what it gives
    pub kind: Kind,
    /// names of the rasters that it is made of, in the order in which they are to be given
    pub names: Vec<String>,
}

/// A formula.
#[derive(Debug, Clone, PartialEq)]
pub struct Formula {
    /// as it was typed
    pub text: String,
    said: Expression,
}

impl Formula {
    /// Reads a formula.
    ///
    /// # Errors
    /// Those of [`parse`].
    pub fn read(text: &str) -> Result<Self> {
        Ok(Self { text: text.to_owned(), said: parse(text)? })
    }

    /// Names of the rasters in it.
    pub fn names(&self) -> Vec<&str> {
        self.said.names()
    }

    /// Checks names and units; `known` tells the unit of a raster.
    ///
    /// # Errors
    /// [`Error`] at the name that is not known, or at what cannot be computed with each other, and why.
    pub fn check(&self, known: &dyn Fn(&str) -> Option<Unit>) -> Result<Checked> {
        let names: Vec<String> = self.names().into_iter().map(str::to_owned).collect();
        let (node, kind) = check(&self.said, &names, known)?;
        Ok(Checked { node, kind, names })
    }
}

type Found = Result<(Node, Kind)>;

fn check(of: &Expression, names: &[String], known: &dyn Fn(&str) -> Option<Unit>) -> Found {
    let part = |e: &Expression| check(e, names, known);
    match &of.what {
        What::Number(value) => Ok((Node::Constant(*value), Kind::Plain)),
        What::Nothing => Ok((Node::Constant(f64::NAN), Kind::Plain)),
        What::Name(name) => match known(name) {
            Some(unit) => {
                let at = names.iter().position(|n| n == name).unwrap_or_default();
                Ok((Node::Raster(at), Kind::Number(unit)))
            }
            None if function(name).is_some() => {
                let what = format!(
                    "{name} is a function: what it is of stands in brackets after it, as in {name}(…)"
                );
                Err(Error::at(of.span, what))
            }
            None => Err(Error::at(of.span, format!("there is no raster {name}"))),
        },
        What::Prefix(Prefix::Minus, e) => {
            let (node, kind) = part(e)?;
            Ok((Node::Negative(Box::new(node)), kind.number(e.span, "a sign")?))
        }
        What::Prefix(Prefix::Not, e) => {
            let (node, kind) = part(e)?;
            kind.condition(e.span, "“not”")?;
            Ok((Node::Not(Box::new(node)), Kind::Condition))
        }
        What::Infix(sign, a, b) => {
            let ((left, of_left), (right, of_right)) = (part(a)?, part(b)?);
            let kind = joined(*sign, (of_left, a), (of_right, b), of.span)?;
            Ok((Node::Two(*sign, Box::new(left), Box::new(right), of.span), kind))
        }
        What::Choice(all) => {
            let [condition, then, other] = &**all;
            let (c, kind) = part(condition)?;
            kind.condition(condition.span, "“if”")?;
            let ((a, of_a), (b, of_b)) = (part(then)?, part(other)?);
            let kind = of_a.with(of_b, of.span, "the two results of one “if”")?;
            Ok((Node::Choice(Box::new([c, a, b])), kind))
        }
        What::Call(name, arguments) => called(of, name, arguments, &part),
    }
}

fn joined(
    sign: Infix,
    (left, a): (Kind, &Expression),
    (right, b): (Kind, &Expression),
    span: Span,
) -> Result<Kind> {
    use Infix::{Above, And, AtLeast, AtMost, Below, Equal, Less, Or, Over, Plus, Power, Times, Unequal};
    let numbers = |what: &str| Ok((left.clone().number(a.span, what)?, right.clone().number(b.span, what)?));
    match sign {
        Or | And => {
            let what = if sign == Or { "“or”" } else { "“and”" };
            left.condition(a.span, what)?;
            right.condition(b.span, what)?;
            Ok(Kind::Condition)
        }
        AtMost | AtLeast | Unequal | Below | Above | Equal => {
            let (left, right) = numbers("a comparison")?;
            left.with(right, span, "compared")?;
            Ok(Kind::Condition)
        }
        Plus => numbers("a sum").and_then(|(l, r)| l.with(r, span, "added")),
        Less => numbers("a difference").and_then(|(l, r)| l.with(r, span, "taken from each other")),
        Times | Over => numbers("a product").map(|(l, r)| l.times(r, sign)),
        Power => {
            let (left, right) = numbers("a power")?;
            let right = right.without_unit(b.span, "an exponent")?;
            let typed = (right == Kind::Plain).then(|| typed(b)).flatten();
            left.to(typed, span)
        }
    }
}

/// A number that was typed, with its sign.
fn typed(of: &Expression) -> Option<f64> {
    match &of.what {
        What::Number(value) => Some(*value),
        What::Prefix(Prefix::Minus, of) => typed(of).map(|v| -v),
        What::Infix(Infix::Over, a, b) => Some(typed(a)? / typed(b)?),
        _ => None,
    }
}

fn called(
    of: &Expression,
    name: &str,
    arguments: &[Expression],
    part: &dyn Fn(&Expression) -> Found,
) -> Found {
    let Some(function) = function(name) else {
        let close = FUNCTIONS.iter().map(|f| f.0).filter(|f| f.starts_with(&name[..1.min(name.len())]));
        let close: Vec<&str> = close.collect();
        let known = if close.is_empty() { "ln, sqrt, max and others are".into() } else { close.join(", ") };
        return Err(Error::at(of.span, format!("there is no function {name}; there is {known}")));
    };
    let wanted = |count: usize| match arguments.len() == count {
        true => Ok(()),
        false => {
            Err(Error::at(of.span, format!("{name} takes {count} in its brackets, not {}", arguments.len())))
        }
    };
    match function {
        Function::One(one) => {
            wanted(1)?;
            let (node, kind) = part(&arguments[0])?;
            let kind = kind.number(arguments[0].span, name)?;
            let kind = match one {
                One::Ln | One::Log10 => Kind::Number(Unit::none()),
                One::Sqrt => kind.to(Some(0.5), of.span)?,
                One::Exp | One::Sin | One::Cos | One::Tan => {
                    kind.without_unit(arguments[0].span, name)?;
                    Kind::Number(Unit::none())
                }
                One::Abs | One::Round | One::Floor | One::Ceil => kind,
            };
            Ok((Node::One(one, Box::new(node), of.span), kind))
        }
        Function::Atan2 => {
            wanted(2)?;
            let ((y, of_y), (x, of_x)) = (part(&arguments[0])?, part(&arguments[1])?);
            let of_y = of_y.number(arguments[0].span, name)?;
            of_y.with(of_x.number(arguments[1].span, name)?, of.span, "the sides of one angle")?;
            Ok((Node::Atan2(Box::new(y), Box::new(x)), Kind::Number(Unit::none())))
        }
        Function::Over(over) => {
            let mut nodes = Vec::new();
            let mut kind = Kind::Plain;
            for argument in arguments {
                let (node, own) = part(argument)?;
                kind = kind.with(
                    own.number(argument.span, name)?,
                    of.span,
                    &format!("taken together by {name}"),
                )?;
                nodes.push(node);
            }
            match (nodes.len(), nodes.pop()) {
                (1, Some(node)) => Ok((Node::Whole(over, Box::new(node)), kind)),
                (_, last) => {
                    nodes.extend(last);
                    Ok((Node::Several(over, nodes), kind))
                }
            }
        }
    }
}
