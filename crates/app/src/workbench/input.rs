//! A line of text input.

/// Text with a cursor.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Input {
    text: String,
    /// Byte offset, always at the boundary of a character.
    cursor: usize,
    /// Whether the first character that is typed replaces it.
    replaced: bool,
}

/// Maximum length, in bytes.
const MAX: usize = 8_192;

impl Input {
    /// With the cursor at the end.
    pub fn new(text: impl Into<String>) -> Input {
        let text = text.into();
        Input { cursor: text.len(), text, replaced: false }
    }

    /// A proposal: whoever types replaces it, whoever moves or deletes goes on with it.
    pub fn proposed(text: impl Into<String>) -> Input {
        let text = text.into();
        Input { replaced: !text.is_empty(), ..Input::new(text) }
    }

    /// Whether typing replaces it.
    pub fn is_proposed(&self) -> bool {
        self.replaced
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
        if std::mem::take(&mut self.replaced) {
            (self.text, self.cursor) = (String::new(), 0);
        }
        if !c.is_control() && self.text.len() + c.len_utf8() <= MAX {
            self.text.insert(self.cursor, c);
            self.cursor += c.len_utf8();
        }
    }

    /// Deletes the character before the cursor.
    pub fn backspace(&mut self) {
        self.replaced = false;
        if let Some(c) = self.before().chars().next_back() {
            self.cursor -= c.len_utf8();
            self.text.remove(self.cursor);
        }
    }

    /// Deletes the character under the cursor.
    pub fn delete(&mut self) {
        self.replaced = false;
        if self.cursor < self.text.len() {
            self.text.remove(self.cursor);
        }
    }

    /// Deletes everything before the cursor.
    pub fn clear(&mut self) {
        self.replaced = false;
        self.text.drain(..self.cursor);
        self.cursor = 0;
    }

    /// Moves by one character.
    pub fn step(&mut self, forward: bool) {
        self.replaced = false;
        let step = match forward {
            true => self.text[self.cursor..].chars().next().map(char::len_utf8),
            false => self.before().chars().next_back().map(char::len_utf8),
        };
        let step = step.unwrap_or(0);
        self.cursor = if forward { self.cursor + step } else { self.cursor - step };
    }

    /// Moves to an end.
    pub fn to_end(&mut self, last: bool) {
        self.replaced = false;
        self.cursor = if last { self.text.len() } else { 0 };
    }
}

#[cfg(test)]
mod tests {
    use super::Input;

    #[test]
    fn a_proposal_is_replaced_by_typing_and_kept_by_moving() {
        let typed = |before: &dyn Fn(&mut Input)| {
            let mut input = Input::proposed("Ada");
            before(&mut input);
            input.insert('x');
            input.text().to_string()
        };
        assert_eq!(typed(&|_| {}), "x");
        assert_eq!(typed(&|i| i.step(false)), "Adxa");
        assert_eq!(typed(&|i| i.backspace()), "Adx");
        assert_eq!(typed(&|i| i.to_end(true)), "Adax");
        let mut input = Input::proposed("Ada");
        "Bo".chars().for_each(|c| input.insert(c));
        assert_eq!(input.text(), "Bo");
    }
}
