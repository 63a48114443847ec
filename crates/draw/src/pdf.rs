//! Writes drawings as PDF 1.7 (ISO 32000-1), a page each.

use pdf_writer::{Content, Finish, Name, Pdf, Rect, Ref, Str, TextStr};

use crate::font::Font;
use crate::{Colour, Drawing, Point, Shape};

const CATALOG: Ref = Ref::new(1);
const PAGES: Ref = Ref::new(2);
const INFO: Ref = Ref::new(3);
const PLAIN: [Ref; 5] = [Ref::new(4), Ref::new(5), Ref::new(6), Ref::new(7), Ref::new(8)];
const BOLD: [Ref; 5] = [Ref::new(9), Ref::new(10), Ref::new(11), Ref::new(12), Ref::new(13)];

/// Each page has two numbers from here on: its own, and that of its content.
const FIRST_PAGE: i32 = 14;

/// How far the handles of four Bézier curves stand off, that look like a circle.
const ROUND: f32 = 0.5523;

/// The fonts of a document.
struct Fonts {
    plain: Font,
    bold: Font,
}

struct Page<'a> {
    content: Content,
    height: f32,
    fonts: &'a mut Fonts,
}

impl Page<'_> {
    fn at(&self, p: Point) -> Point {
        (p.0, self.height - p.1)
    }

    fn fill(&mut self, c: Colour) {
        let [r, g, b] = c.map(|v| f32::from(v) / 255.0);
        self.content.set_fill_rgb(r, g, b);
    }

    fn edge(&mut self, c: Colour) {
        let [r, g, b] = c.map(|v| f32::from(v) / 255.0);
        self.content.set_stroke_rgb(r, g, b);
    }

    fn paint(&mut self, fill: Option<Colour>, edge: Option<Colour>) {
        match (fill, edge) {
            (Some(_), Some(_)) => self.content.fill_nonzero_and_stroke(),
            (Some(_), None) => self.content.fill_nonzero(),
            (None, Some(_)) => self.content.stroke(),
            (None, None) => self.content.end_path(),
        };
    }

    fn shape(&mut self, shape: &Shape) {
        match shape {
            Shape::Line { from, to, width, colour } => {
                self.edge(*colour);
                let (from, to) = (self.at(*from), self.at(*to));
                self.content.set_line_width(*width).move_to(from.0, from.1).line_to(to.0, to.1).stroke();
            }
            Shape::Polygon { points, fill, edge } => {
                fill.iter().for_each(|c| self.fill(*c));
                edge.iter().for_each(|c| self.edge(*c));
                self.content.set_line_width(1.0);
                for (i, p) in points.iter().enumerate() {
                    let (x, y) = self.at(*p);
                    if i == 0 {
                        self.content.move_to(x, y)
                    } else {
                        self.content.line_to(x, y)
                    };
                }
                self.content.close_path();
                self.paint(*fill, *edge);
            }
            Shape::Circle { at, radius: r, fill, edge } => {
                fill.iter().for_each(|c| self.fill(*c));
                edge.iter().for_each(|c| self.edge(*c));
                let ((x, y), h) = (self.at(*at), r * ROUND);
                self.content
                    .set_line_width(1.0)
                    .move_to(x + r, y)
                    .cubic_to(x + r, y + h, x + h, y + r, x, y + r)
                    .cubic_to(x - h, y + r, x - r, y + h, x - r, y)
                    .cubic_to(x - r, y - h, x - h, y - r, x, y - r)
                    .cubic_to(x + h, y - r, x + r, y - h, x + r, y)
                    .close_path();
                self.paint(*fill, *edge);
            }
            Shape::Text { at, size, bold, colour, text } => {
                self.fill(*colour);
                let (x, y) = self.at(*at);
                let (name, font) = match bold {
                    true => (Name(b"B"), &mut self.fonts.bold),
                    false => (Name(b"P"), &mut self.fonts.plain),
                };
                self.content.begin_text().set_font(name, *size).next_line(x, y);
                self.content.show(Str(&font.encode(text))).end_text();
            }
        }
    }
}

impl Drawing {
    /// The drawing as PDF.
    pub fn to_pdf(&self) -> Vec<u8> {
        document(&self.title, std::slice::from_ref(self))
    }
}

/// Drawings as the pages of one PDF.
pub fn document(title: &str, drawings: &[Drawing]) -> Vec<u8> {
    let mut fonts = Fonts { plain: Font::new(false), bold: Font::new(true) };
    let mut pdf = Pdf::new();
    let numbers = |i: usize| {
        let first = FIRST_PAGE + 2 * i as i32;
        (Ref::new(first), Ref::new(first + 1))
    };
    pdf.catalog(CATALOG).pages(PAGES);
    pdf.pages(PAGES).kids((0..drawings.len()).map(|i| numbers(i).0)).count(drawings.len() as i32);
    for (i, d) in drawings.iter().enumerate() {
        let ((number, content), (width, height)) = (numbers(i), d.size);
        let mut page = Page { content: Content::new(), height, fonts: &mut fonts };
        d.shapes.iter().for_each(|s| page.shape(s));
        let drawn = page.content.finish();
        let mut writer = pdf.page(number);
        writer.media_box(Rect::new(0.0, 0.0, width, height)).parent(PAGES).contents(content);
        writer.resources().fonts().pair(Name(b"P"), PLAIN[0]).pair(Name(b"B"), BOLD[0]);
        writer.finish();
        pdf.stream(content, &drawn);
    }
    fonts.plain.write(&mut pdf, PLAIN);
    fonts.bold.write(&mut pdf, BOLD);
    pdf.document_info(INFO).title(TextStr(title));
    pdf.finish()
}
