//! A line of text input.

/// Text with a cursor.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Input {
    text: String,
    /// Byte offset, always at the boundary of a character.
    cursor: usize,
}

/// Maximum length, in bytes.
const MAX: usize = 8_192;

impl Input {
    /// With the cursor at the end.
    pub fn new(text: impl Into<String>) -> Input {
        let text = text.into();
        Input { cursor: text.len(), text }
    }

    /// The text.
    pub fn text(&self) -> &str {
        &self.text
    }

    /// The text before the cursor.
    pub fn before(&self) -> &str {
        &self.text[..self.cursor]
    }

    /// Types a character.
    pub fn insert(&mut self, c: char) {
        if !c.is_control() && self.text.len() + c.len_utf8() <= MAX {
            self.text.insert(self.cursor, c);
            self.cursor += c.len_utf8();
        }
    }

    /// Deletes the character before the cursor.
    pub fn backspace(&mut self) {
        if let Some(c) = self.before().chars().next_back() {
            self.cursor -= c.len_utf8();
            self.text.remove(self.cursor);
        }
    }

    /// Deletes the character under the cursor.
    pub fn delete(&mut self) {
        if self.cursor < self.text.len() {
            self.text.remove(self.cursor);
        }
    }

    /// Deletes everything before the cursor.
    pub fn clear(&mut self) {
        self.text.drain(..self.cursor);
        self.cursor = 0;
    }

    /// Moves by one character.
    pub fn step(&mut self, forward: bool) {
        let step = match forward {
            true => self.text[self.cursor..].chars().next().map(char::len_utf8),
            false => self.before().chars().next_back().map(char::len_utf8),
        };
        let step = step.unwrap_or(0);
        self.cursor = if forward { self.cursor + step } else { self.cursor - step };
    }

    /// Moves to an end.
    pub fn to_end(&mut self, last: bool) {
        self.cursor = if last { self.text.len() } else { 0 };
    }
}
