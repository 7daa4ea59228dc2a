//! Writing PDF 1.7: vectors, text as text with its fonts in the file, tagged so that it can be read aloud (PDF/UA-1, ISO
//! 14289-1) and kept (PDF/A-2a, ISO 19005-2). The writer refuses what breaks either.

use krilla::Document;
use krilla::SerializeSettings;
use krilla::annotation::{Annotation, LinkAnnotation, Target as LinkTarget};
use krilla::color::rgb;
use krilla::configure::{Accessibility, Archival, ConfigurationBuilder};
use krilla::destination::{Destination, XyzDestination};
use krilla::geom::{PathBuilder, Point, Size, Transform};
use krilla::metadata::{DateTime, Metadata};
use krilla::num::NormalizedF32;
use krilla::outline::{Outline, OutlineNode};
use krilla::page::PageSettings;
use krilla::paint::{Fill, FillRule, LineCap, LineJoin, Stroke, StrokeDash};
use krilla::surface::Surface;
use krilla::tagging::{
    Artifact, ArtifactType, ContentTag, Identifier, TableHeaderScope, Tag, TagGroup, TagKind, TagTree,
};
use krilla::text::{Font, TextDirection};

use crate::fonts::{POINT, file};
use crate::{
    Anchor, Colour, Drawing, Error, Line, Mark, Picture, Rect, Result, Role, Target, Weight, width_mm,
};

/// What a document tells of itself.
#[derive(Debug, Clone, PartialEq)]
pub struct About {
    /// its title
    pub title: String,
    /// year, month, day, hour, minute, second in UTC when it was made
    pub made: (u16, u8, u8, u8, u8, u8),
}

fn failed(why: impl std::fmt::Debug) -> Error {
    Error::Written(format!("{why:?}"))
}

struct Fonts {
    regular: Font,
    bold: Font,
}

/// A PDF that is being written page by page; a page is no longer needed once it was added.
pub struct Pages {
    document: Document,
    fonts: Fonts,
    tree: TagTree,
    /// headings with their levels, in order
    outline: Vec<(u8, OutlineNode)>,
    count: usize,
    about: About,
}

impl Pages {
    /// A PDF without pages.
    ///
    /// # Errors
    /// [`Error::Written`].
    pub fn new(about: About) -> Result<Self> {
        let configuration = ConfigurationBuilder::new()
            .with_archival_validator(Archival::A2_A)
            .with_accessibility_validator(Accessibility::UA1)
            .finish()
            .map_err(failed)?;
        let settings = SerializeSettings { configuration, ..SerializeSettings::default() };
        let font = |weight| {
            Font::new(file(weight).to_vec().into(), 0).ok_or_else(|| failed("a font cannot be read"))
        };
        Ok(Self {
            document: Document::new_with(settings),
            fonts: Fonts { regular: font(Weight::Regular)?, bold: font(Weight::Bold)? },
            tree: TagTree::new(),
            outline: Vec::new(),
            count: 0,
            about,
        })
    }

    /// Adds a page.
    ///
    /// # Errors
    /// [`Error::Written`].
    pub fn add(&mut self, drawing: &Drawing) -> Result<()> {
        let (width, height) = drawing.page;
        let size = Size::from_wh((width / POINT) as f32, (height / POINT) as f32);
        let settings = PageSettings::new(size.ok_or_else(|| failed("a page without size"))?);
        let mut page = self.document.start_page_with(settings);
        let mut surface = page.surface();
        surface.push_transform(&Transform::from_scale((1.0 / POINT) as f32, (1.0 / POINT) as f32));
        let mut nodes = Vec::new();
        for mark in &drawing.marks {
            if let Mark::Group { role, marks } = mark {
                nodes.extend(node(&mut surface, &self.fonts, &drawing.title, role, marks)?);
            }
        }
        surface.pop();
        surface.finish();
        for node in nodes {
            let tag = node.tagged(&mut page);
            self.tree.push(tag);
        }
        page.finish();
        let place = |y: f64| XyzDestination::new(self.count, Point::from_xy(0.0, (y / POINT) as f32));
        if drawing.headings.is_empty() {
            let title =
                if drawing.title.is_empty() { self.about.title.clone() } else { drawing.title.clone() };
            self.outline.push((1, OutlineNode::new(title, place(0.0))));
        }
        for heading in &drawing.headings {
            self.outline.push((heading.level, OutlineNode::new(heading.title.clone(), place(heading.y))));
        }
        self.count += 1;
        Ok(())
    }

    /// The file.
    ///
    /// # Errors
    /// [`Error::Written`] where the writer refuses it.
    pub fn finish(self) -> Result<Vec<u8>> {
        let Self { mut document, tree, outline, about, .. } = self;
        document.set_outline(nested(outline));
        document.set_tag_tree(tree);
        let (year, month, day, hour, minute, second) = about.made;
        let made = DateTime::new(year).month(month).day(day).hour(hour).minute(minute).second(second);
        let title = if about.title.is_empty() { "Map sheet".to_owned() } else { about.title };
        document.set_metadata(
            Metadata::new()
                .title(title)
                .language("en".into())
                .creator("Bothros".into())
                .creation_date(made.utc_offset_hour(0).utc_offset_minute(0)),
        );
        document.finish().map_err(failed)
    }
}

/// Writes pages as one PDF.
///
/// # Errors
/// [`Error::Written`] where the writer refuses it.
pub fn pdf(pages: &[Drawing], about: &About) -> Result<Vec<u8>> {
    let mut all = Pages::new(about.clone())?;
    pages.iter().try_for_each(|page| all.add(page))?;
    all.finish()
}

/// Headings under those they belong to.
fn nested(all: Vec<(u8, OutlineNode)>) -> Outline {
    let mut outline = Outline::new();
    let mut open: Option<OutlineNode> = None;
    for (level, node) in all {
        match (&mut open, level) {
            (Some(above), level) if level > 1 => above.push_child(node),
            _ => {
                if let Some(done) = open.replace(node) {
                    outline.push_child(done);
                }
            }
        }
    }
    if let Some(done) = open {
        outline.push_child(done);
    }
    outline
}

/// A part of the text in the order of reading.
struct Node {
    tag: TagKind,
    content: Vec<Identifier>,
    within: Vec<Node>,
    link: Option<(Rect, Target, String)>,
}

impl Node {
    /// Its tags; links become annotations of the page.
    fn tagged(self, page: &mut krilla::page::Page) -> TagGroup {
        let mut group = TagGroup::new(self.tag);
        self.content.into_iter().for_each(|at| group.push(at));
        for node in self.within {
            let tag = node.tagged(page);
            group.push(tag);
        }
        if let Some((at, Target::Page { page: to, y }, told)) = self.link {
            let point = |mm: f64| (mm / POINT) as f32;
            let rect =
                krilla::geom::Rect::from_xywh(point(at.x), point(at.y), point(at.width), point(at.height));
            if let Some(rect) = rect {
                let to = XyzDestination::new(to, Point::from_xy(0.0, point(y)));
                let link = LinkAnnotation::new(rect, LinkTarget::Destination(Destination::Xyz(to)));
                group.push(page.add_tagged_annotation(Annotation::new_link(link, Some(told))));
            }
        }
        group
    }
}

/// Draws marks that belong together; nothing for what is no part of the text.
fn node(
    surface: &mut Surface,
    fonts: &Fonts,
    title: &str,
    role: &Role,
    marks: &[Mark],
) -> Result<Option<Node>> {
    let mut node = Node { tag: Tag::P.into(), content: Vec::new(), within: Vec::new(), link: None };
    match role {
        Role::Title => node.tag = Tag::Hn(std::num::NonZeroU16::MIN, Some(title.to_owned())).into(),
        Role::Words => {}
        Role::Heading(level, told) => {
            let level = std::num::NonZeroU16::new(u16::from(*level)).unwrap_or(std::num::NonZeroU16::MIN);
            node.tag = Tag::Hn(level, Some(told.clone())).into();
        }
        Role::Figure(told) => node.tag = Tag::Figure(Some(told.clone())).into(),
        Role::Head => node.tag = Tag::TH(TableHeaderScope::Column).into(),
        Role::Cell => node.tag = Tag::TD.into(),
        Role::Link { at, to, told } => {
            node.tag = Tag::Link.into();
            node.link = Some((*at, *to, told.clone()));
        }
        Role::Table | Role::Row => {
            node.tag = if *role == Role::Table { Tag::Table.into() } else { Tag::TR.into() };
            for mark in marks {
                if let Mark::Group { role, marks } = mark {
                    node.within.extend(self::node(surface, fonts, title, role, marks)?);
                }
            }
            return Ok(Some(node));
        }
        Role::Aside => {
            surface.start_tagged(ContentTag::Artifact(Artifact::with_kind(ArtifactType::Other)));
            let drawn = draw(surface, fonts, marks);
            surface.end_tagged();
            return drawn.map(|()| None);
        }
    }
    let at = surface.start_tagged(ContentTag::Other);
    let drawn = draw(surface, fonts, marks);
    surface.end_tagged();
    drawn?;
    node.content.push(at);
    Ok(Some(node))
}

fn draw(surface: &mut Surface, fonts: &Fonts, marks: &[Mark]) -> Result<()> {
    for mark in marks {
        match mark {
            Mark::Path { lines, closed, fill, line } => {
                let Some(path) = path(lines, *closed) else { continue };
                surface.set_fill(fill.map(|(colour, opacity)| filled(colour, opacity)));
                surface.set_stroke(line.as_ref().map(stroked));
                surface.draw_path(&path);
            }
            Mark::Image { at, picture, opacity } => {
                let size = Size::from_wh(at.width as f32, at.height as f32);
                surface.push_transform(&Transform::from_translate(at.x as f32, at.y as f32));
                surface.push_opacity(share(*opacity));
                if let Some(size) = size {
                    surface.draw_image(image(picture)?, size);
                }
                surface.pop();
                surface.pop();
            }
            Mark::Text { at, anchor, turned, size, weight, colour, halo, text } => {
                words(surface, fonts, *at, *anchor, *turned, *size, *weight, *colour, *halo, text);
            }
            Mark::Clip { area, marks } => {
                let Some(area) = path(area, true) else { continue };
                surface.push_clip_path(&area, &FillRule::EvenOdd);
                let drawn = draw(surface, fonts, marks);
                surface.pop();
                drawn?;
            }
            Mark::Group { marks, .. } => draw(surface, fonts, marks)?,
        }
    }
    Ok(())
}

#[allow(clippy::too_many_arguments)]
fn words(
    surface: &mut Surface,
    fonts: &Fonts,
    [x, y]: [f64; 2],
    anchor: Anchor,
    turned: f64,
    size: f64,
    weight: Weight,
    colour: Colour,
    halo: f64,
    text: &str,
) {
    let text: String = text.chars().filter(|c| !c.is_control()).collect();
    if text.trim().is_empty() {
        return;
    }
    let font = match weight {
        Weight::Regular => &fonts.regular,
        Weight::Bold => &fonts.bold,
    };
    let wide = width_mm(&text, size, weight);
    let from = match anchor {
        Anchor::Start => 0.0,
        Anchor::Middle => -wide / 2.0,
        Anchor::End => -wide,
    };
    surface.push_transform(&Transform::from_translate(x as f32, y as f32));
    surface.push_transform(&Transform::from_rotate(turned as f32));
    let start = Point::from_xy(from as f32, 0.0);
    let letters = |surface: &mut Surface, outlined| {
        surface.draw_text(start, font.clone(), size as f32, &text, outlined, TextDirection::Auto);
    };
    if halo > 0.0 {
        // The rim is drawn as outlines, so that every word is found once.
        let rim = Line::solid(Colour::PAPER, 2.0 * halo);
        surface.set_fill(None);
        surface.set_stroke(Some(stroked(&rim)));
        letters(surface, true);
    }
    surface.set_fill(Some(filled(colour, 1.0)));
    surface.set_stroke(None);
    letters(surface, false);
    surface.pop();
    surface.pop();
}

fn share(of: f64) -> NormalizedF32 {
    NormalizedF32::new(of.clamp(0.0, 1.0) as f32).unwrap_or(NormalizedF32::ONE)
}

fn colour(Colour([r, g, b]): Colour) -> rgb::Color {
    rgb::Color::new(r, g, b)
}

fn filled(with: Colour, opacity: f64) -> Fill {
    Fill { paint: colour(with).into(), opacity: share(opacity), rule: FillRule::EvenOdd }
}

fn stroked(line: &Line) -> Stroke {
    let dash = (!line.dash.is_empty())
        .then(|| StrokeDash { array: line.dash.iter().map(|&d| d as f32).collect(), offset: 0.0 });
    Stroke {
        paint: colour(line.colour).into(),
        width: line.width as f32,
        line_cap: if line.round { LineCap::Round } else { LineCap::Butt },
        line_join: if line.round { LineJoin::Round } else { LineJoin::Miter },
        dash,
        ..Stroke::default()
    }
}

fn path(lines: &[Vec<[f64; 2]>], closed: bool) -> Option<krilla::geom::Path> {
    let mut builder = PathBuilder::new();
    for line in lines.iter().filter(|line| line.len() > 1) {
        for (n, [x, y]) in line.iter().enumerate() {
            match n {
                0 => builder.move_to(*x as f32, *y as f32),
                _ => builder.line_to(*x as f32, *y as f32),
            }
        }
        if closed {
            builder.close();
        }
    }
    builder.finish()
}

fn image(picture: &Picture) -> Result<krilla::image::Image> {
    let (width, height) = (picture.width as u32, picture.height as u32);
    match picture.rgba.len() == picture.width * picture.height * 4 {
        true => Ok(krilla::image::Image::from_rgba8(picture.rgba.to_vec(), width, height)),
        false => Err(failed("a picture does not have the dots that it says")),
    }
}
