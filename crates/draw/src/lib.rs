//! Drawings for a page: shapes and text at places in points (1/72 inch), from the upper left corner, written as SVG 1.1
//! or as PDF 1.7, there also several as pages of one [`document`].
//!
//! Text is set in a font of fixed width, so that its size is known without measuring: [`text_width`]. A PDF contains the
//! characters of DejaVu Sans Mono that it uses; one that this font lacks, such as those of Chinese, is shown as �. What an
//! SVG shows is up to the fonts of its reader.
//!
//! ```
//! let mut drawing = gossip_draw::Drawing::landscape("Berths");
//! drawing.text((40.0, 60.0), 12.0, true, [0, 0, 0], "Berth 4 is free");
//! assert!(drawing.to_svg().contains("<svg"));
//! assert!(drawing.to_pdf().starts_with(b"%PDF-1.7"));
//! ```

#![cfg_attr(not(test), warn(clippy::too_many_lines))]

mod font;
mod pdf;
mod svg_file;

pub use pdf::document;

/// A colour: red, green, blue.
pub type Colour = [u8; 3];

/// A place, in points.
pub type Point = (f32, f32);

/// Width of a text's character in units of its size.
const ADVANCE: f32 = 0.602;

/// The width of a text of a size, in points.
pub fn text_width(text: &str, size: f32) -> f32 {
    text.chars().count() as f32 * size * ADVANCE
}

/// The beginning of a text that fits into a width, with an ellipsis where something is missing.
pub fn fit(text: &str, size: f32, width: f32) -> String {
    let room = (width / (size * ADVANCE)).max(0.0) as usize;
    let clean: Vec<char> = text.chars().map(|c| if c.is_control() { ' ' } else { c }).collect();
    match clean.len() <= room {
        true => clean.into_iter().collect(),
        false => clean.into_iter().take(room.saturating_sub(1)).chain(['…']).collect(),
    }
}

/// Something on the page.
#[derive(Clone, Debug, PartialEq)]
pub enum Shape {
    /// A straight line.
    Line {
        /// Where it begins.
        from: Point,
        /// Where it ends.
        to: Point,
        /// Its width.
        width: f32,
        /// Its colour.
        colour: Colour,
    },
    /// A closed shape with straight sides.
    Polygon {
        /// Its corners.
        points: Vec<Point>,
        /// What fills it.
        fill: Option<Colour>,
        /// The colour of its edge.
        edge: Option<Colour>,
    },
    /// A circle.
    Circle {
        /// Its middle.
        at: Point,
        /// Its radius.
        radius: f32,
        /// What fills it.
        fill: Option<Colour>,
        /// The colour of its edge.
        edge: Option<Colour>,
    },
    /// A line of text.
    Text {
        /// The left end of its baseline.
        at: Point,
        /// Its size.
        size: f32,
        /// Whether it is bold.
        bold: bool,
        /// Its colour.
        colour: Colour,
        /// The text.
        text: String,
    },
}

/// A page with shapes, in the order in which they are drawn.
#[derive(Clone, Debug, PartialEq)]
pub struct Drawing {
    /// What it shows, for readers and for programs that list documents.
    pub title: String,
    /// Width and height.
    pub size: (f32, f32),
    /// What is on it.
    pub shapes: Vec<Shape>,
}

impl Drawing {
    /// An empty page, A4 on its side.
    pub fn landscape(title: impl Into<String>) -> Drawing {
        Drawing { title: title.into(), size: (842.0, 595.0), shapes: Vec::new() }
    }

    /// Adds a text.
    pub fn text(&mut self, at: Point, size: f32, bold: bool, colour: Colour, text: impl Into<String>) {
        self.shapes.push(Shape::Text { at, size, bold, colour, text: text.into() });
    }

    /// Adds a line.
    pub fn line(&mut self, from: Point, to: Point, width: f32, colour: Colour) {
        self.shapes.push(Shape::Line { from, to, width, colour });
    }

    /// Adds a filled rectangle.
    pub fn block(&mut self, at: Point, size: (f32, f32), colour: Colour) {
        let ((x, y), (w, h)) = (at, size);
        let points = vec![(x, y), (x + w, y), (x + w, y + h), (x, y + h)];
        self.shapes.push(Shape::Polygon { points, fill: Some(colour), edge: None });
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn texts_fit_and_stay_inside_their_format() {
        assert_eq!(fit("a long one", 10.0, 31.0), "a lo…");
        assert_eq!(fit("short", 10.0, 31.0), "short");
        let mut d = Drawing::landscape("<Journey> & (more)");
        d.text((10.0, 20.0), 8.0, false, [0; 3], "1 < 2 & \"x\" (a\\b) größe → 語 \u{7}");
        d.shapes.push(Shape::Circle { at: (5.0, 5.0), radius: 2.0, fill: None, edge: Some([9, 9, 9]) });
        let svg = d.to_svg();
        assert!(
            svg.contains("1\u{a0}&lt;\u{a0}2\u{a0}&amp;")
                && svg.contains("größe\u{a0}→\u{a0}語")
                && !svg.contains('\u{7}'),
            "{svg}"
        );
        let pdf = d.to_pdf();
        assert!(pdf.starts_with(b"%PDF-1.7") && pdf.ends_with(b"%%EOF"));
    }
}
