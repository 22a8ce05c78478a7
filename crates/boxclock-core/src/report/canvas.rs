//! A small drawing surface: rectangles, lines and texts in points, written as SVG or as one page of PDF. Black on white, so that
//! it can be read when printed.
//!
//! PDF: one page with the built-in font Helvetica in the encoding WinAnsi (ISO 32000-1, 9.6.2 and annex D): letters beyond
//! Latin-1 are shown as `?` there, which whoever writes one is told; SVG shows them all.

use std::path::Path;

use pdf_writer::{Content, Finish, Name, Pdf, Rect, Ref, Str};
use svg::Document;
use svg::node::element::{Line, Rectangle, Text};

use crate::new_file::{NewFile, Protected};
use crate::{Error, Result};

/// A colour: red, green, blue.
pub type Colour = (u8, u8, u8);

/// Hues that differ for people with any colour vision (the Okabe-Ito set), dark enough for white paper.
pub const CALM: Colour = (0x56, 0xB4, 0xE9);
/// Warnings.
pub const WARN: Colour = (0xE6, 0x9F, 0x00);
/// Errors and crashes.
pub const BAD: Colour = (0xD5, 0x5E, 0x00);
/// Text.
pub const INK: Colour = (0x22, 0x22, 0x22);
/// Rules.
pub const FAINT: Colour = (0xBB, 0xBB, 0xBB);

/// Where a text stands against its point.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Anchor {
    /// It begins there.
    Start,
    /// Its middle is there.
    Middle,
    /// It ends there.
    End,
}

enum Shape {
    Rect { x: f32, y: f32, width: f32, height: f32, colour: Colour },
    Line { from: (f32, f32), to: (f32, f32), colour: Colour },
    Text { x: f32, y: f32, size: f32, bold: bool, anchor: Anchor, text: String },
}

/// What is drawn, from the top left corner, in points.
pub struct Canvas {
    width: f32,
    height: f32,
    shapes: Vec<Shape>,
}

impl Canvas {
    /// An empty one.
    pub fn new(width: f32, height: f32) -> Self {
        Self { width, height, shapes: Vec::new() }
    }

    /// A filled rectangle.
    pub fn rect(&mut self, (x, y): (f32, f32), (width, height): (f32, f32), colour: Colour) {
        self.shapes.push(Shape::Rect { x, y, width, height, colour });
    }

    /// A thin line.
    pub fn line(&mut self, from: (f32, f32), to: (f32, f32), colour: Colour) {
        self.shapes.push(Shape::Line { from, to, colour });
    }

    /// A text on its base line. Control characters are shown as symbols.
    pub fn text(&mut self, (x, y): (f32, f32), size: f32, anchor: Anchor, text: &str) {
        let text = crate::visible(text, false);
        self.shapes.push(Shape::Text { x, y, size, bold: false, anchor, text });
    }

    /// The same in bold.
    pub fn title(&mut self, (x, y): (f32, f32), size: f32, text: &str) {
        let text = crate::visible(text, false);
        self.shapes.push(Shape::Text { x, y, size, bold: true, anchor: Anchor::Start, text });
    }

    /// Writes it into a file; the end of its name says the form. Gives a note on what the file does not show.
    ///
    /// # Errors
    /// When the name ends neither in `.svg` nor in `.pdf`, names evidence of the case or a file that exists (without `replace`), or
    /// cannot be written.
    pub fn write(&self, path: &Path, protected: &Protected, replace: bool) -> Result<Option<String>> {
        let (bytes, note) = match path.extension().and_then(|extension| extension.to_str()) {
            Some("svg") => (self.to_svg().into_bytes(), None),
            Some("pdf") => (self.to_pdf(), self.lost_letters()),
            _ => return Err(Error::new(format!("{}: a chart ends in .svg or .pdf", path.display()))),
        };
        NewFile::write(path, protected, replace, &bytes)?;
        Ok(note)
    }

    /// Says how many letters a PDF shows as `?`, if any.
    fn lost_letters(&self) -> Option<String> {
        let texts = self.shapes.iter().filter_map(|shape| match shape {
            Shape::Text { text, .. } => Some(text),
            _ => None,
        });
        let lost = texts.flat_map(|text| text.chars()).filter(|c| *c != '?' && win_ansi_byte(*c) == b'?').count();
        (lost > 0)
            .then(|| format!("letters beyond Latin-1, {lost} of them, are shown as ? in a PDF: an SVG shows them all"))
    }

    /// The drawing as SVG.
    pub fn to_svg(&self) -> String {
        let mut document = Document::new()
            .set("viewBox", (0, 0, self.width, self.height))
            .set("width", self.width)
            .set("height", self.height)
            .set("font-family", "DejaVu Sans, sans-serif")
            .add(Rectangle::new().set("width", "100%").set("height", "100%").set("fill", "white"));
        for shape in &self.shapes {
            document = match shape {
                Shape::Rect { x, y, width, height, colour } => document.add(
                    Rectangle::new()
                        .set("x", round(*x))
                        .set("y", round(*y))
                        .set("width", round(*width))
                        .set("height", round(*height))
                        .set("fill", hex(*colour)),
                ),
                Shape::Line { from, to, colour } => document.add(
                    Line::new()
                        .set("x1", round(from.0))
                        .set("y1", round(from.1))
                        .set("x2", round(to.0))
                        .set("y2", round(to.1))
                        .set("stroke", hex(*colour)),
                ),
                Shape::Text { x, y, size, bold, anchor, text } => {
                    let anchor = match anchor {
                        Anchor::Start => "start",
                        Anchor::Middle => "middle",
                        Anchor::End => "end",
                    };
                    let weight = if *bold { "bold" } else { "normal" };
                    let text = Text::new(text.clone())
                        .set("x", round(*x))
                        .set("y", round(*y))
                        .set("font-size", *size)
                        .set("font-weight", weight)
                        .set("text-anchor", anchor);
                    document.add(text.set("fill", hex(INK)))
                }
            };
        }
        document.to_string()
    }

    /// The drawing as one page of PDF.
    pub fn to_pdf(&self) -> Vec<u8> {
        let (catalog, pages, page, plain, bold, content) =
            (Ref::new(1), Ref::new(2), Ref::new(3), Ref::new(4), Ref::new(5), Ref::new(6));
        let mut pdf = Pdf::new();
        pdf.catalog(catalog).pages(pages);
        pdf.pages(pages).kids([page]).count(1);
        let mut one = pdf.page(page);
        one.media_box(Rect::new(0.0, 0.0, self.width, self.height)).parent(pages).contents(content);
        one.resources().fonts().pair(Name(b"P"), plain).pair(Name(b"B"), bold);
        one.finish();
        for (font, name) in [(plain, &b"Helvetica"[..]), (bold, &b"Helvetica-Bold"[..])] {
            pdf.type1_font(font).base_font(Name(name)).encoding_predefined(Name(b"WinAnsiEncoding"));
        }
        let drawn = self.content();
        pdf.stream(content, &drawn.finish());
        pdf.finish()
    }

    fn content(&self) -> Content {
        let mut content = Content::new();
        // The origin of a page is its lower left corner.
        let up = |y: f32| self.height - y;
        let share = |colour: Colour| {
            let of = |part: u8| f32::from(part) / 255.0;
            (of(colour.0), of(colour.1), of(colour.2))
        };
        for shape in &self.shapes {
            match shape {
                Shape::Rect { x, y, width, height, colour } => {
                    let (red, green, blue) = share(*colour);
                    content.set_fill_rgb(red, green, blue);
                    content.rect(*x, up(y + height), *width, *height);
                    content.fill_nonzero();
                }
                Shape::Line { from, to, colour } => {
                    let (red, green, blue) = share(*colour);
                    content.set_stroke_rgb(red, green, blue);
                    content.set_line_width(0.7);
                    content.move_to(from.0, up(from.1));
                    content.line_to(to.0, up(to.1));
                    content.stroke();
                }
                Shape::Text { x, y, size, bold, anchor, text } => {
                    let bytes = win_ansi(text);
                    // Half an em is about the mean of this font's letters.
                    let width = bytes.len() as f32 * size * 0.5;
                    let x = match anchor {
                        Anchor::Start => *x,
                        Anchor::Middle => x - width / 2.0,
                        Anchor::End => x - width,
                    };
                    let (red, green, blue) = share(INK);
                    content.set_fill_rgb(red, green, blue);
                    content.begin_text();
                    content.set_font(Name(if *bold { b"B" } else { b"P" }), *size);
                    content.next_line(x, up(*y));
                    content.show(Str(&bytes));
                    content.end_text();
                }
            }
        }
        content
    }
}

fn hex((red, green, blue): Colour) -> String {
    format!("#{red:02X}{green:02X}{blue:02X}")
}

fn round(value: f32) -> f32 {
    (value * 10.0).round() / 10.0
}

/// A text in the encoding WinAnsi.
fn win_ansi(text: &str) -> Vec<u8> {
    text.chars().map(win_ansi_byte).collect()
}

fn win_ansi_byte(c: char) -> u8 {
    match c {
        '…' => 0x85,
        '–' => 0x96,
        '—' => 0x97,
        '•' => 0x95,
        '−' => b'-',
        ' '..='~' | '\u{a0}'..='\u{ff}' => c as u8,
        _ => b'?',
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn both_forms_hold_what_was_drawn() {
        let mut canvas = Canvas::new(200.0, 100.0);
        canvas.rect((1.0, 2.0), (3.0, 4.0), BAD);
        canvas.line((0.0, 0.0), (10.0, 10.0), FAINT);
        canvas.text((5.0, 50.0), 10.0, Anchor::End, "−6m41s <b> 日\u{1b}");
        let svg = canvas.to_svg();
        assert!(svg.contains("#D55E00") && svg.contains("−6m41s &lt;b&gt; 日"), "{svg}");
        assert!(canvas.lost_letters().unwrap().contains("1 of them"));
        let pdf = canvas.to_pdf();
        assert!(pdf.starts_with(b"%PDF-1."));
        let text = String::from_utf8_lossy(&pdf).into_owned();
        assert!(text.contains("(-6m41s <b> ?^[)") && text.contains("%%EOF"), "{text}");
    }
}
