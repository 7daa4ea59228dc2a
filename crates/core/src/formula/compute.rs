//! Formulas computed by blocks of cells.

use std::collections::BTreeMap;

use rayon::prelude::*;

use super::check::{Checked, One, Over};
use super::layer::{Features, From};
use super::near::{WIDEST, near};
use super::{Distance, Infix, Span, Unit};
use crate::{Cell, Frame, Grid, Monitor};

/// The cells of a raster.
#[derive(Debug, Clone, Copy)]
pub enum Values<'a> {
    /// NaN where there is no value
    F32(&'a [f32]),
    /// with the value that marks cells without one
    U8(&'a [u8], u8),
    /// counts with the value that marks cells without one; each is (count + `plus`) times `times`
    U32 {
        /// the counts
        values: &'a [u32],
        /// marks a cell without a value
        none: u32,
        /// added to each
        plus: f64,
        /// then multiplied with each
        times: f64,
    },
}

/// A raster that a formula may name.
#[derive(Debug, Clone)]
pub struct Raster<'a> {
    /// unit of its values
    pub unit: Unit,
    /// its cells, row by row
    pub values: Values<'a>,
}

impl Values<'_> {
    fn len(&self) -> usize {
        match self {
            Self::F32(v) => v.len(),
            Self::U8(v, _) => v.len(),
            Self::U32 { values, .. } => values.len(),
        }
    }

    fn load(&self, from: usize, out: &mut [f64]) {
        let to = from + out.len();
        match self {
            Self::F32(v) => out.iter_mut().zip(&v[from..to]).for_each(|(o, &v)| *o = f64::from(v)),
            Self::U8(v, none) => out
                .iter_mut()
                .zip(&v[from..to])
                .for_each(|(o, &v)| *o = if v == *none { f64::NAN } else { f64::from(v) }),
            Self::U32 { values, none, plus, times } => {
                out.iter_mut().zip(&values[from..to]).for_each(|(o, &v)| {
                    *o = if v == *none { f64::NAN } else { (f64::from(v) + plus) * times };
                });
            }
        }
    }
}

/// What cannot be computed.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum OddKind {
    /// a logarithm of zero or less
    Logarithm,
    /// a division by zero
    Division,
    /// a square root of less than zero
    Root,
    /// a broken power of less than zero, or a negative one of zero
    Power,
    /// a number too large to be kept
    TooLarge,
}

impl OddKind {
    /// In words.
    pub fn told(self) -> &'static str {
        match self {
            Self::Logarithm => "logarithm of zero or less",
            Self::Division => "division by zero",
            Self::Root => "square root of less than zero",
            Self::Power => "power that no number is",
            Self::TooLarge => "number too large to be kept",
        }
    }
}

/// Cells that could not be computed: they are none.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Odd {
    /// why
    pub kind: OddKind,
    /// where in the formula
    pub at: Span,
    /// how many
    pub cells: u64,
    /// the first of them
    pub first: Cell,
}

/// Counts of what could not be computed, with the first cell of each.
type Odds = BTreeMap<(OddKind, Span), (u64, usize)>;

fn note(odds: &mut Odds, kind: OddKind, at: Span, cell: usize) {
    let entry = odds.entry((kind, at)).or_insert((0, cell));
    entry.0 += 1;
    entry.1 = entry.1.min(cell);
}

fn merged(mut a: Odds, b: Odds) -> Odds {
    for (key, (count, first)) in b {
        let entry = a.entry(key).or_insert((0, first));
        entry.0 += count;
        entry.1 = entry.1.min(first);
    }
    a
}

/// A formula as it is computed.
#[derive(Debug, Clone)]
pub(super) enum Node {
    Constant(f64),
    Raster(usize),
    Negative(Box<Node>),
    Not(Box<Node>),
    Two(Infix, Box<Node>, Box<Node>, Span),
    Choice(Box<[Node; 3]>),
    One(One, Box<Node>, Span),
    Atan2(Box<Node>, Box<Node>),
    Several(Over, Vec<Node>),
    /// a figure of a whole raster, which is found before
    Whole(Over, Box<Node>),
    /// a figure of the cells within a distance, which is found before
    Near(Over, Distance, Box<Node>),
    /// a figure of the cells of each feature of a layer, which is found before
    Along(Over, usize, Box<Node>),
    /// a raster from a layer, which is found before
    Of(From, usize),
    /// the numbers of a field of a layer, which are found before
    Field(String, usize),
    /// what was found before for each cell
    Made(usize),
}

/// Cells that are computed at a time: they stay in the nearest memory.
const BLOCK: usize = 2048;

/// Room for blocks, used again and again.
#[derive(Default)]
struct Pool(Vec<Vec<f64>>);

impl Pool {
    fn take(&mut self, cells: usize) -> Vec<f64> {
        let mut block = self.0.pop().unwrap_or_default();
        block.resize(cells, 0.0);
        block
    }
    fn give(&mut self, block: Vec<f64>) {
        self.0.push(block);
    }
}

fn truth(is: bool) -> f64 {
    f64::from(u8::from(is))
}

/// Both, where what is not known may not matter.
fn both(a: f64, b: f64) -> f64 {
    if a == 0.0 || b == 0.0 { 0.0 } else { a * b }
}

fn either(a: f64, b: f64) -> f64 {
    if a == 1.0 || b == 1.0 { 1.0 } else { a + b }
}

fn two(out: &mut [f64], other: &[f64], how: impl Fn(f64, f64) -> f64) {
    for (a, &b) in out.iter_mut().zip(other) {
        *a = how(*a, b);
    }
}

/// Compares as rasters are kept, in single precision: 0.3 as it was typed equals 0.3 as it was kept.
fn compared(out: &mut [f64], other: &[f64], how: impl Fn(f32, f32) -> bool) {
    two(out, other, |a, b| if a.is_nan() || b.is_nan() { f64::NAN } else { truth(how(a as f32, b as f32)) });
}

/// Cells that are being computed.
#[derive(Clone, Copy)]
struct At<'a> {
    rasters: &'a [Raster<'a>],
    /// what was found before
    made: &'a [Vec<f32>],
    /// the first of them
    from: usize,
    /// those whose result counts; all where it is none
    seen: Option<&'a [bool]>,
}

impl At<'_> {
    fn note(&self, odds: &mut Odds, kind: OddKind, span: Span, cell: usize) {
        if self.seen.is_none_or(|seen| seen[cell]) {
            note(odds, kind, span, self.from + cell);
        }
    }
}

impl Node {
    /// Computes a block of cells.
    fn block(&self, at: &At<'_>, out: &mut [f64], pool: &mut Pool, odds: &mut Odds) {
        match self {
            Self::Constant(value) => out.fill(*value),
            Self::Raster(which) => at.rasters[*which].values.load(at.from, out),
            Self::Negative(of) => {
                of.block(at, out, pool, odds);
                out.iter_mut().for_each(|v| *v = -*v);
            }
            Self::Not(of) => {
                of.block(at, out, pool, odds);
                out.iter_mut().for_each(|v| *v = 1.0 - *v);
            }
            Self::Two(sign, a, b, span) => {
                a.block(at, out, pool, odds);
                let mut other = pool.take(out.len());
                b.block(at, &mut other, pool, odds);
                infix(*sign, out, &other, |kind, cell| at.note(odds, kind, *span, cell));
                pool.give(other);
            }
            Self::Choice(all) => {
                let [condition, then, otherwise] = &**all;
                condition.block(at, out, pool, odds);
                // What is not chosen is not counted among what cannot be computed.
                let seen = |n: usize| at.seen.is_none_or(|seen| seen[n]);
                let side = |truth: f64| out.iter().enumerate().map(|(n, c)| *c == truth && seen(n)).collect();
                let (yes, no): (Vec<bool>, Vec<bool>) = (side(1.0), side(0.0));
                let (mut chosen, mut other) = (pool.take(out.len()), pool.take(out.len()));
                then.block(&At { seen: Some(&yes), ..*at }, &mut chosen, pool, odds);
                otherwise.block(&At { seen: Some(&no), ..*at }, &mut other, pool, odds);
                for ((c, a), b) in out.iter_mut().zip(&chosen).zip(&other) {
                    *c = if c.is_nan() {
                        f64::NAN
                    } else if *c == 1.0 {
                        *a
                    } else {
                        *b
                    };
                }
                pool.give(chosen);
                pool.give(other);
            }
            Self::One(one, of, span) => {
                of.block(at, out, pool, odds);
                single(*one, out, |kind, cell| at.note(odds, kind, *span, cell));
            }
            Self::Atan2(y, x) => {
                y.block(at, out, pool, odds);
                let mut other = pool.take(out.len());
                x.block(at, &mut other, pool, odds);
                two(out, &other, f64::atan2);
                pool.give(other);
            }
            Self::Several(over, all) => {
                let mut other = pool.take(out.len());
                let mut low = pool.take(out.len());
                for (n, node) in all.iter().enumerate() {
                    match n {
                        0 => {
                            node.block(at, out, pool, odds);
                            low.copy_from_slice(out);
                        }
                        _ => {
                            node.block(at, &mut other, pool, odds);
                            match over {
                                Over::Min => two(out, &other, |a, b| if b < a || b.is_nan() { b } else { a }),
                                Over::Max => two(out, &other, |a, b| if b > a || b.is_nan() { b } else { a }),
                                Over::Mean | Over::Sum => two(out, &other, |a, b| a + b),
                                Over::Range => {
                                    two(out, &other, |a, b| if b > a || b.is_nan() { b } else { a });
                                    two(&mut low, &other, |a, b| if b < a || b.is_nan() { b } else { a });
                                }
                            }
                        }
                    }
                }
                match over {
                    Over::Mean => {
                        let count = all.len() as f64;
                        out.iter_mut().for_each(|v| *v /= count);
                    }
                    Over::Range => two(out, &low, |a, b| a - b),
                    _ => {}
                }
                pool.give(other);
                pool.give(low);
            }
            Self::Made(which) => Values::F32(&at.made[*which]).load(at.from, out),
            // They have been found before, and stand as constants or as what was made.
            Self::Whole(..) | Self::Near(..) | Self::Along(..) | Self::Of(..) | Self::Field(..) => {
                out.fill(f64::NAN)
            }
        }
    }
}

/// What is found before cells are computed: figures of whole rasters, of what lies around cells, of features.
struct Before<'a> {
    rasters: &'a [Raster<'a>],
    layers: &'a [Features],
    frame: &'a Frame,
    monitor: &'a dyn Monitor,
    made: Vec<Vec<f32>>,
    odds: Odds,
}

impl Before<'_> {
    /// Finds them, those within others first, and puts them in their place.
    fn found(&mut self, node: Node) -> crate::Result<Node> {
        Ok(match node {
            Node::Whole(over, of) => {
                let of = self.found(*of)?;
                Node::Constant(self.whole(over, &of)?)
            }
            Node::Near(over, distance, of) => {
                let radius = distance.in_cells(self.frame.cell_m());
                if radius > WIDEST {
                    return Err(crate::Error::RadiusTooLarge {
                        cells: radius.ceil() as u64,
                        most: WIDEST as u64,
                    });
                }
                let values = self.values(*of)?;
                let found = near(&values, (self.frame.rows, self.frame.cols), radius, over, self.monitor)?;
                self.keep(found)
            }
            Node::Along(over, layer, of) => {
                let values = self.values(*of)?;
                let found = self.layers[layer].figures(&values, over);
                self.keep(found)
            }
            Node::Of(what, layer) => {
                let found = self.layers[layer].raster(what, self.frame, self.monitor)?;
                self.keep(found)
            }
            Node::Field(name, layer) => {
                let found = self.layers[layer].field(&name, self.frame);
                self.keep(found)
            }
            Node::Negative(of) => Node::Negative(self.boxed(*of)?),
            Node::Not(of) => Node::Not(self.boxed(*of)?),
            Node::Two(sign, a, b, span) => Node::Two(sign, self.boxed(*a)?, self.boxed(*b)?, span),
            Node::Choice(all) => {
                let [a, b, c] = *all;
                Node::Choice(Box::new([self.found(a)?, self.found(b)?, self.found(c)?]))
            }
            Node::One(of, node, span) => Node::One(of, self.boxed(*node)?, span),
            Node::Atan2(y, x) => Node::Atan2(self.boxed(*y)?, self.boxed(*x)?),
            Node::Several(over, all) => {
                let all = all.into_iter().map(|node| self.found(node));
                Node::Several(over, all.collect::<crate::Result<_>>()?)
            }
            other @ (Node::Constant(_) | Node::Raster(_) | Node::Made(_)) => other,
        })
    }

    fn boxed(&mut self, node: Node) -> crate::Result<Box<Node>> {
        self.found(node).map(Box::new)
    }

    fn keep(&mut self, values: Vec<f32>) -> Node {
        self.made.push(values);
        Node::Made(self.made.len() - 1)
    }

    /// What a part of the formula gives for each cell.
    fn values(&mut self, node: Node) -> crate::Result<Vec<f32>> {
        let node = self.found(node)?;
        let (values, odds) = self.computed(&node)?;
        self.odds = merged(std::mem::take(&mut self.odds), odds);
        Ok(values)
    }

    fn computed(&self, node: &Node) -> crate::Result<(Vec<f32>, Odds)> {
        let Self { rasters, made, monitor, .. } = self;
        let mut out = vec![f32::NAN; self.frame.cells()];
        let everywhere = Span { from: 0, to: 0 };
        let odds = out
            .par_chunks_mut(BLOCK)
            .enumerate()
            .map_init(Pool::default, |pool, (block, out)| {
                let from = block * BLOCK;
                let mut odds = Odds::new();
                if monitor.is_cancelled() {
                    return odds;
                }
                let mut values = pool.take(out.len());
                node.block(&At { rasters, made, from, seen: None }, &mut values, pool, &mut odds);
                for (n, (out, &value)) in out.iter_mut().zip(&values).enumerate() {
                    *out = value as f32;
                    if out.is_infinite() {
                        note(&mut odds, OddKind::TooLarge, everywhere, from + n);
                        *out = f32::NAN;
                    }
                }
                pool.give(values);
                odds
            })
            .reduce(Odds::new, merged);
        match monitor.is_cancelled() {
            true => Err(crate::Error::Cancelled),
            false => Ok((out, odds)),
        }
    }

    /// A figure of all cells that have a value; none where there are none.
    fn whole(&self, over: Over, of: &Node) -> crate::Result<f64> {
        let Self { rasters, made, monitor, .. } = self;
        let cells = self.frame.cells();
        struct Figures {
            low: f64,
            high: f64,
            sum: f64,
            count: u64,
        }
        // In blocks of a fixed size, put together in their order: the same on any number of cores.
        let figures: Vec<Figures> = (0..cells.div_ceil(BLOCK))
            .into_par_iter()
            .map_init(Pool::default, |pool, block| {
                let from = block * BLOCK;
                let mut values = pool.take(BLOCK.min(cells - from));
                let mut unseen = Odds::new();
                of.block(&At { rasters, made, from, seen: None }, &mut values, pool, &mut unseen);
                let begin = Figures { low: f64::INFINITY, high: f64::NEG_INFINITY, sum: 0.0, count: 0 };
                let all = values.iter().filter(|v| !v.is_nan()).fold(begin, |f, &v| Figures {
                    low: f.low.min(v),
                    high: f.high.max(v),
                    sum: f.sum + v,
                    count: f.count + 1,
                });
                pool.give(values);
                all
            })
            .collect();
        if monitor.is_cancelled() {
            return Err(crate::Error::Cancelled);
        }
        let count: u64 = figures.iter().map(|f| f.count).sum();
        if count == 0 {
            return Ok(f64::NAN);
        }
        let low = figures.iter().map(|f| f.low).fold(f64::INFINITY, f64::min);
        let high = figures.iter().map(|f| f.high).fold(f64::NEG_INFINITY, f64::max);
        let sum: f64 = figures.iter().map(|f| f.sum).sum();
        Ok(match over {
            Over::Min => low,
            Over::Max => high,
            Over::Range => high - low,
            Over::Sum => sum,
            Over::Mean => sum / count as f64,
        })
    }
}

fn infix(sign: Infix, out: &mut [f64], other: &[f64], mut odd: impl FnMut(OddKind, usize)) {
    match sign {
        Infix::Or => two(out, other, either),
        Infix::And => two(out, other, both),
        Infix::AtMost => compared(out, other, |a, b| a <= b),
        Infix::AtLeast => compared(out, other, |a, b| a >= b),
        Infix::Unequal => compared(out, other, |a, b| a != b),
        Infix::Below => compared(out, other, |a, b| a < b),
        Infix::Above => compared(out, other, |a, b| a > b),
        Infix::Equal => compared(out, other, |a, b| a == b),
        Infix::Plus => two(out, other, |a, b| a + b),
        Infix::Less => two(out, other, |a, b| a - b),
        Infix::Times => two(out, other, |a, b| a * b),
        Infix::Over => {
            for (n, (a, &b)) in out.iter_mut().zip(other).enumerate() {
                if b == 0.0 {
                    if !a.is_nan() {
                        odd(OddKind::Division, n);
                    }
                    *a = f64::NAN;
                } else {
                    *a /= b;
                }
            }
        }
        Infix::Power => {
            for (n, (a, &b)) in out.iter_mut().zip(other).enumerate() {
                let known = !a.is_nan() && !b.is_nan();
                let no_power = *a == 0.0 && b < 0.0;
                let value = if known && !no_power { a.powf(b) } else { f64::NAN };
                if known && value.is_nan() {
                    odd(OddKind::Power, n);
                }
                *a = value;
            }
        }
    }
}

fn single(one: One, out: &mut [f64], mut odd: impl FnMut(OddKind, usize)) {
    let mut guarded = |kind: OddKind, fails: fn(f64) -> bool, how: fn(f64) -> f64| {
        for (n, v) in out.iter_mut().enumerate() {
            if fails(*v) {
                odd(kind, n);
                *v = f64::NAN;
            } else {
                *v = how(*v);
            }
        }
    };
    match one {
        One::Ln => guarded(OddKind::Logarithm, |v| v <= 0.0, f64::ln),
        One::Log10 => guarded(OddKind::Logarithm, |v| v <= 0.0, f64::log10),
        One::Sqrt => guarded(OddKind::Root, |v| v < 0.0, f64::sqrt),
        One::Exp => out.iter_mut().for_each(|v| *v = v.exp()),
        One::Abs => out.iter_mut().for_each(|v| *v = v.abs()),
        One::Sin => out.iter_mut().for_each(|v| *v = v.sin()),
        One::Cos => out.iter_mut().for_each(|v| *v = v.cos()),
        One::Tan => out.iter_mut().for_each(|v| *v = v.tan()),
        One::Round => out.iter_mut().for_each(|v| *v = v.round()),
        One::Floor => out.iter_mut().for_each(|v| *v = v.floor()),
        One::Ceil => out.iter_mut().for_each(|v| *v = v.ceil()),
    }
}

impl Checked {
    /// Computes the formula for all cells of a grid; `rasters` are those of [`Checked::names`] and `layers` those of
    /// [`Checked::layers`], in that order. Conditions give 1 and 0. Beside the result: what could not be computed, the most
    /// frequent first.
    ///
    /// # Errors
    /// [`crate::Error::ShapeMismatch`], [`crate::Error::RadiusTooLarge`], [`crate::Error::Cancelled`].
    pub fn compute(
        &self,
        rasters: &[Raster],
        layers: &[Features],
        frame: &Frame,
        monitor: &dyn Monitor,
    ) -> crate::Result<(Grid<f32>, Vec<Odd>)> {
        let (rows, cols) = (frame.rows, frame.cols);
        let given = rasters.iter().map(|r| r.values.len()).find(|len| *len != frame.cells());
        let missing = rasters.len() < self.names.len() || layers.len() < self.layers.len();
        if let Some(len) = given.or(missing.then_some(0)) {
            return Err(crate::Error::ShapeMismatch {
                a_rows: rows,
                a_cols: cols,
                b_rows: len / cols.max(1),
                b_cols: cols,
            });
        }
        let mut before = Before { rasters, layers, frame, monitor, made: Vec::new(), odds: Odds::new() };
        let node = before.found(self.node.clone())?;
        let (out, odds) = before.computed(&node)?;
        let odds = merged(before.odds, odds);
        let cell = |at: usize| Cell { row: at / cols, col: at % cols };
        let mut odds: Vec<Odd> = odds
            .into_iter()
            .map(|((kind, at), (cells, first))| Odd { kind, at, cells, first: cell(first) })
            .collect();
        odds.sort_by_key(|odd| std::cmp::Reverse(odd.cells));
        Ok((Grid::from_vec(rows, cols, out), odds))
    }
}
