//! Writes a drawing as SVG 1.1.

use svg::Document;
use svg::node::element::{Circle, Line, Polygon, Rectangle, Text, Title};

use crate::{Colour, Drawing, Shape};

fn colour(c: Colour) -> String {
    format!("#{:02x}{:02x}{:02x}", c[0], c[1], c[2])
}

fn paint(c: Option<Colour>) -> String {
    c.map_or("none".into(), colour)
}

/// Control characters have no place in XML, and spaces in a row would become one.
fn clean(text: &str) -> String {
    text.chars().map(|c| if c.is_control() || c == ' ' { '\u{a0}' } else { c }).collect()
}

impl Drawing {
    /// The drawing as SVG.
    pub fn to_svg(&self) -> String {
        write(self)
    }
}

fn write(d: &Drawing) -> String {
    let (w, h) = d.size;
    let ground = Rectangle::new().set("width", w).set("height", h).set("fill", "#ffffff");
    let mut doc = Document::new()
        .set("viewBox", (0, 0, w, h))
        .set("width", format!("{w}pt"))
        .set("height", format!("{h}pt"))
        .add(Title::new(clean(&d.title)))
        .add(ground);
    for shape in &d.shapes {
        doc = match shape {
            Shape::Line { from, to, width, colour: c } => doc.add(
                Line::new()
                    .set("x1", from.0)
                    .set("y1", from.1)
                    .set("x2", to.0)
                    .set("y2", to.1)
                    .set("stroke-width", *width)
                    .set("stroke", colour(*c)),
            ),
            Shape::Polygon { points, fill, edge } => {
                let points: Vec<String> = points.iter().map(|(x, y)| format!("{x},{y}")).collect();
                let polygon = Polygon::new().set("points", points.join(" "));
                doc.add(polygon.set("fill", paint(*fill)).set("stroke", paint(*edge)))
            }
            Shape::Circle { at, radius, fill, edge } => {
                let circle = Circle::new().set("cx", at.0).set("cy", at.1).set("r", *radius);
                doc.add(circle.set("fill", paint(*fill)).set("stroke", paint(*edge)))
            }
            Shape::Text { at, size, bold, colour: c, text } => doc.add(
                Text::new(clean(text))
                    .set("x", at.0)
                    .set("y", at.1)
                    .set("font-family", "'DejaVu Sans Mono', Menlo, Consolas, monospace")
                    .set("font-size", *size)
                    .set("font-weight", if *bold { "bold" } else { "normal" })
                    .set("fill", colour(*c)),
            ),
        };
    }
    doc.to_string()
}
