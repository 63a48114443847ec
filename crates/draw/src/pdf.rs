//! Writes a drawing as PDF 1.7 (ISO 32000-1) with one page.

use pdf_writer::{Content, Finish, Name, Pdf, Rect, Ref, Str, TextStr};

use crate::{Colour, Drawing, Point, Shape};

const CATALOG: Ref = Ref::new(1);
const PAGES: Ref = Ref::new(2);
const PAGE: Ref = Ref::new(3);
const CONTENT: Ref = Ref::new(4);
const PLAIN: Ref = Ref::new(5);
const BOLD: Ref = Ref::new(6);
const INFO: Ref = Ref::new(7);

/// How far the handles of four Bézier curves stand off, that look like a circle.
const ROUND: f32 = 0.5523;

/// A text in the encoding of the standard fonts, WinAnsi.
fn encoded(text: &str) -> Vec<u8> {
    let one = |c: char| -> Vec<u8> {
        match c {
            ' '..='~' | '\u{a0}'..='ÿ' => vec![c as u32 as u8],
            '…' => vec![0x85],
            '•' => vec![0x95],
            '–' => vec![0x96],
            '—' => vec![0x97],
            '‘' | '’' => vec![0x27],
            '“' | '”' => vec![0x22],
            '€' => vec![0x80],
            '→' => b">".to_vec(),
            '−' => b"-".to_vec(),
            c if c.is_control() => b" ".to_vec(),
            _ => b"?".to_vec(),
        }
    };
    text.chars().flat_map(one).collect()
}

struct Page {
    content: Content,
    height: f32,
}

impl Page {
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
                let font = if *bold { Name(b"B") } else { Name(b"P") };
                self.content.begin_text().set_font(font, *size).next_line(x, y);
                self.content.show(Str(&encoded(text))).end_text();
            }
        }
    }
}

impl Drawing {
    /// The drawing as PDF.
    pub fn to_pdf(&self) -> Vec<u8> {
        write(self)
    }
}

fn write(d: &Drawing) -> Vec<u8> {
    let (width, height) = d.size;
    let mut page = Page { content: Content::new(), height };
    d.shapes.iter().for_each(|s| page.shape(s));
    let mut pdf = Pdf::new();
    pdf.catalog(CATALOG).pages(PAGES);
    pdf.pages(PAGES).kids([PAGE]).count(1);
    let mut writer = pdf.page(PAGE);
    writer.media_box(Rect::new(0.0, 0.0, width, height)).parent(PAGES).contents(CONTENT);
    writer.resources().fonts().pair(Name(b"P"), PLAIN).pair(Name(b"B"), BOLD);
    writer.finish();
    for (font, name) in [(PLAIN, Name(b"Courier")), (BOLD, Name(b"Courier-Bold"))] {
        pdf.type1_font(font).base_font(name).encoding_predefined(Name(b"WinAnsiEncoding"));
    }
    pdf.document_info(INFO).title(TextStr(&d.title));
    pdf.stream(CONTENT, &page.content.finish());
    pdf.finish()
}
