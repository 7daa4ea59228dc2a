//! Formulas checked for what they mean: names, functions, units.

use super::compute::Node;
use super::layer::From;
use super::{Error, Expression, Infix, Kind, Prefix, Reach, Result, Span, Unit, What, parse};

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
    Layer(From),
}

/// What a name in a formula stands for.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Named {
    /// a raster, with the unit of its values
    Raster(Unit),
    /// a layer
    Layer {
        /// unit of the elevation that each of its features has, where they have one
        unit: Option<Unit>,
        /// names of the fields whose numbers they have
        fields: Vec<String>,
    },
}

const FUNCTIONS: [(&str, Function, &str); 20] = [
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
    (
        "min",
        Function::Over(Over::Min),
        "smallest of several; of one, over the whole raster, within a distance, along or inside a layer",
    ),
    (
        "max",
        Function::Over(Over::Max),
        "largest of several; of one, over the whole raster, within a distance, along or inside a layer",
    ),
    (
        "mean",
        Function::Over(Over::Mean),
        "mean of several; of one, over the whole raster, within a distance, along or inside a layer",
    ),
    (
        "sum",
        Function::Over(Over::Sum),
        "sum of several; of one, over the whole raster, within a distance, along or inside a layer",
    ),
    ("range", Function::Over(Over::Range), "largest less smallest, as the two"),
    ("on", Function::Layer(From::On), "1 on the features of a layer, 0 elsewhere"),
    ("distance", Function::Layer(From::Distance), "metres to the nearest feature of a layer"),
    (
        "value",
        Function::Layer(From::Value),
        "elevation of the features of a layer, or a number of theirs by its field: value(lakes, depth); none elsewhere",
    ),
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
    /// names of the layers that it is made of, in the order in which they are to be given
    pub layers: Vec<String>,
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

    /// Names of the layers in it.
    pub fn layers(&self) -> Vec<&str> {
        self.said.layers()
    }

    /// Checks names and units; `known` tells what a name stands for.
    ///
    /// # Errors
    /// [`Error`] at the name that is not known, or at what cannot be computed with each other, and why.
    pub fn check(&self, known: &dyn Fn(&str) -> Option<Named>) -> Result<Checked> {
        let owned = |all: Vec<&str>| all.into_iter().map(str::to_owned).collect::<Vec<String>>();
        let (names, layers) = (owned(self.names()), owned(self.layers()));
        let (node, kind) = Names { rasters: &names, layers: &layers, known }.check(&self.said)?;
        Ok(Checked { node, kind, names, layers })
    }
}

type Found = Result<(Node, Kind)>;

/// Names of a formula, and what they stand for.
struct Names<'a> {
    rasters: &'a [String],
    layers: &'a [String],
    known: &'a dyn Fn(&str) -> Option<Named>,
}

impl Names<'_> {
    fn check(&self, of: &Expression) -> Found {
        match &of.what {
            What::Number(value) => Ok((Node::Constant(*value), Kind::Plain)),
            What::Nothing => Ok((Node::Constant(f64::NAN), Kind::Plain)),
            What::Name(name) => self.raster(name, of.span),
            What::Prefix(Prefix::Minus, e) => {
                let (node, kind) = self.check(e)?;
                Ok((Node::Negative(Box::new(node)), kind.number(e.span, "a sign")?))
            }
            What::Prefix(Prefix::Not, e) => {
                let (node, kind) = self.check(e)?;
                kind.condition(e.span, "“not”")?;
                Ok((Node::Not(Box::new(node)), Kind::Condition))
            }
            What::Infix(sign, a, b) => {
                let ((left, of_left), (right, of_right)) = (self.check(a)?, self.check(b)?);
                let kind = joined(*sign, (of_left, a), (of_right, b), of.span)?;
                Ok((Node::Two(*sign, Box::new(left), Box::new(right), of.span), kind))
            }
            What::Choice(all) => {
                let [condition, then, other] = &**all;
                let (c, kind) = self.check(condition)?;
                kind.condition(condition.span, "“if”")?;
                let ((a, of_a), (b, of_b)) = (self.check(then)?, self.check(other)?);
                let kind = of_a.with(of_b, of.span, "the two results of one “if”")?;
                Ok((Node::Choice(Box::new([c, a, b])), kind))
            }
            What::Call(name, arguments) => self.called(of, name, arguments),
            What::Figure(name, e, reach) => self.figure(of.span, name, e, reach),
        }
    }

    fn raster(&self, name: &str, span: Span) -> Found {
        match (self.known)(name) {
            Some(Named::Raster(unit)) => {
                let at = self.rasters.iter().position(|n| n == name).unwrap_or_default();
                Ok((Node::Raster(at), Kind::Number(unit)))
            }
            Some(Named::Layer { .. }) => {
                let what = format!(
                    "{name} is a layer: on({name}), distance({name}), or a figure along or inside it"
                );
                Err(Error::at(span, what))
            }
            None if function(name).is_some() => {
                let what = format!(
                    "{name} is a function: what it is of stands in brackets after it, as in {name}(…)"
                );
                Err(Error::at(span, what))
            }
            None => Err(Error::at(span, format!("there is no raster {name}"))),
        }
    }

    /// The place of a layer among those that are given, the unit of its elevations, and its fields.
    fn layer(&self, name: &str, span: Span) -> Result<(usize, Option<Unit>, Vec<String>)> {
        match (self.known)(name) {
            Some(Named::Layer { unit, fields }) => {
                Ok((self.layers.iter().position(|n| n == name).unwrap_or_default(), unit, fields))
            }
            Some(Named::Raster(_)) => {
                Err(Error::at(span, format!("{name} is a raster, and a layer is expected")))
            }
            None => Err(Error::at(span, format!("there is no layer {name}"))),
        }
    }

    /// A figure of the cells within a distance, or of those of each feature.
    fn figure(&self, span: Span, name: &str, of: &Expression, reach: &Reach) -> Found {
        let Some(Function::Over(over)) = function(name) else {
            let what = format!("{name} takes no distance and no layer; min, max, mean, sum and range do");
            return Err(Error::at(span, what));
        };
        let (node, kind) = self.check(of)?;
        let kind = kind.number(of.span, name)?;
        let node = Box::new(node);
        match reach {
            Reach::Near(distance) => Ok((Node::Near(over, *distance, node), kind)),
            Reach::Layer(layer, at) => Ok((Node::Along(over, self.layer(layer, *at)?.0, node), kind)),
        }
    }

    /// The numbers of a field of a layer, which have no unit.
    fn field(&self, of: &Expression, field: &Expression) -> Found {
        let (What::Name(layer), What::Name(name)) = (&of.what, &field.what) else {
            let at = if matches!(of.what, What::Name(_)) { field.span } else { of.span };
            return Err(Error::at(at, "value takes the name of a layer, and that of one of its fields"));
        };
        let (at, _, fields) = self.layer(layer, of.span)?;
        if !fields.contains(name) {
            let what =
                format!("the features of {layer} have no numbers of {name}{}", offered(layer, &fields));
            return Err(Error::at(field.span, what));
        }
        Ok((Node::Field(name.clone(), at), Kind::Number(Unit::none())))
    }

    fn called(&self, of: &Expression, name: &str, arguments: &[Expression]) -> Found {
        let Some(function) = function(name) else {
            let close = FUNCTIONS.iter().map(|f| f.0).filter(|f| f.starts_with(&name[..1.min(name.len())]));
            let close: Vec<&str> = close.collect();
            let known =
                if close.is_empty() { "ln, sqrt, max and others are".into() } else { close.join(", ") };
            return Err(Error::at(of.span, format!("there is no function {name}; there is {known}")));
        };
        let wanted = |count: usize| match arguments.len() == count {
            true => Ok(()),
            false => Err(Error::at(
                of.span,
                format!("{name} takes {count} in its brackets, not {}", arguments.len()),
            )),
        };
        match function {
            Function::One(one) => {
                wanted(1)?;
                let (node, kind) = self.check(&arguments[0])?;
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
                let ((y, of_y), (x, of_x)) = (self.check(&arguments[0])?, self.check(&arguments[1])?);
                let of_y = of_y.number(arguments[0].span, name)?;
                of_y.with(of_x.number(arguments[1].span, name)?, of.span, "the sides of one angle")?;
                Ok((Node::Atan2(Box::new(y), Box::new(x)), Kind::Number(Unit::none())))
            }
            Function::Layer(what) => {
                match (what, arguments) {
                    (From::Value, [layer, field]) => return self.field(layer, field),
                    (From::Value, [_, _, ..]) => wanted(2)?,
                    _ => wanted(1)?,
                }
                let argument = &arguments[0];
                let What::Name(layer) = &argument.what else {
                    return Err(Error::at(argument.span, format!("{name} takes the name of a layer")));
                };
                let (at, unit, fields) = self.layer(layer, argument.span)?;
                let unit = match what {
                    From::On => Unit::none(),
                    From::Distance => Unit::of("m", 1),
                    From::Value => unit.ok_or_else(|| {
                        let what =
                            format!("the features of {layer} have no elevation{}", offered(layer, &fields));
                        Error::at(argument.span, what)
                    })?,
                };
                Ok((Node::Of(what, at), Kind::Number(unit)))
            }
            Function::Over(over) => {
                let mut nodes = Vec::new();
                let mut kind = Kind::Plain;
                for argument in arguments {
                    let (node, own) = self.check(argument)?;
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
}

/// The fields of a layer, where it has any.
fn offered(layer: &str, fields: &[String]) -> String {
    match fields {
        [] => String::new(),
        fields => format!("; value({layer}, …) knows {}", fields.join(", ")),
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
