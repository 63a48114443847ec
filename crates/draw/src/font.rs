//! The font of a PDF: only the characters that are used, with their meaning, so that a text can be searched and copied.

use std::collections::BTreeMap;

use pdf_writer::types::{CidFontType, FontFlags, SystemInfo, UnicodeCmap};
use pdf_writer::{Finish, Name, Pdf, Rect, Ref, Str};
use subsetter::GlyphRemapper;
use ttf_parser::Face;

/// What stands for a character that the font lacks.
const MISSING: char = '\u{fffd}';

const IDENTITY: SystemInfo<'_> = SystemInfo { registry: Str(b"Adobe"), ordering: Str(b"Identity"), supplement: 0 };

/// A font and the characters of it that were used.
pub(crate) struct Font {
    name: &'static str,
    data: &'static [u8],
    face: Option<Face<'static>>,
    used: GlyphRemapper,
    chars: BTreeMap<u16, char>,
}

impl Font {
    /// DejaVu Sans Mono.
    pub(crate) fn new(bold: bool) -> Font {
        let (name, data) = match bold {
            false => ("GOSSIP+DejaVuSansMono", dejavu::sans_mono::regular()),
            true => ("GOSSIP+DejaVuSansMono-Bold", dejavu::sans_mono::bold()),
        };
        Font { name, data, face: Face::parse(data, 0).ok(), used: GlyphRemapper::new(), chars: BTreeMap::new() }
    }

    /// A text as the numbers of its glyphs, two bytes each.
    pub(crate) fn encode(&mut self, text: &str) -> Vec<u8> {
        let clean = text.chars().map(|c| if c.is_control() { ' ' } else { c });
        clean.flat_map(|c| self.glyph(c).to_be_bytes()).collect()
    }

    fn glyph(&mut self, c: char) -> u16 {
        let index = |c| self.face.as_ref().and_then(|face| face.glyph_index(c));
        let Some(glyph) = index(c).or_else(|| index(MISSING)) else { return 0 };
        let number = self.used.remap(glyph.0);
        self.chars.entry(number).or_insert(c);
        number
    }

    /// Writes it under five numbers, the first of which pages refer to.
    pub(crate) fn write(&self, pdf: &mut Pdf, [font, cid, descriptor, file, cmap]: [Ref; 5]) {
        let Some(face) = &self.face else { return };
        let name = Name(self.name.as_bytes());
        let em = f32::from(face.units_per_em());
        let units = |n: i16| f32::from(n) * 1_000.0 / em;
        pdf.type0_font(font)
            .base_font(name)
            .encoding_predefined(Name(b"Identity-H"))
            .descendant_font(cid)
            .to_unicode(cmap);
        // All of its characters are equally wide.
        let wide = face.glyph_index('m').and_then(|m| face.glyph_hor_advance(m)).unwrap_or_default();
        let wide = f32::from(wide) * 1_000.0 / em;
        let mut writer = pdf.cid_font(cid);
        writer
            .subtype(CidFontType::Type2)
            .base_font(name)
            .system_info(IDENTITY)
            .font_descriptor(descriptor)
            // Some readers take only a whole number here, so each glyph has its width as well.
            .default_width(wide.round())
            .cid_to_gid_map_predefined(Name(b"Identity"));
        writer.widths().same(0, self.used.num_gids().saturating_sub(1), wide);
        writer.finish();
        let bounds = face.global_bounding_box();
        let [x0, y0, x1, y1] = [bounds.x_min, bounds.y_min, bounds.x_max, bounds.y_max].map(units);
        pdf.font_descriptor(descriptor)
            .name(name)
            .flags(FontFlags::FIXED_PITCH | FontFlags::NON_SYMBOLIC)
            .bbox(Rect::new(x0, y0, x1, y1))
            .italic_angle(0.0)
            .ascent(units(face.ascender()))
            .descent(units(face.descender()))
            .cap_height(units(face.capital_height().unwrap_or(face.ascender())))
            .stem_v(80.0)
            .font_file2(file);
        // Larger than it needs to be is better than none.
        let subset = subsetter::subset(self.data, 0, &self.used).unwrap_or_else(|_| self.data.to_vec());
        let mut stream = pdf.stream(file, &subset);
        stream.pair(Name(b"Length1"), subset.len() as i32);
        stream.finish();
        let mut meanings = UnicodeCmap::new(Name(b"Gossip"), IDENTITY);
        self.chars.iter().for_each(|(glyph, c)| meanings.pair(*glyph, *c));
        pdf.cmap(cmap, &meanings.finish());
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_character_of_a_european_text_has_a_glyph_of_its_own() {
        let mut font = Font::new(false);
        let text = "Łódź → größe ≤ 3 ✓ ● ◆ … Ελλάς Київ";
        let distinct: std::collections::BTreeSet<char> = text.chars().collect();
        assert_eq!(font.encode(text).len(), 2 * text.chars().count());
        assert_eq!(font.chars.values().copied().collect::<std::collections::BTreeSet<_>>(), distinct);
        // What it lacks is seen to be missing.
        let (missing, marked) = (font.encode("語"), font.encode("\u{fffd}"));
        assert_eq!(missing, marked);
        assert_ne!(missing, font.encode("?"));
    }
}
