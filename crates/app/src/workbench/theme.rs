//! Colours, one set for dark and one for light terminals, and none where `NO_COLOR` is set.

use ratatui::style::{Color, Modifier, Style};

/// The colours in use.
#[derive(Clone, Copy, Debug)]
pub struct Theme {
    colour: bool,
    light: bool,
}

impl Theme {
    /// From the environment: `NO_COLOR`; `GOSSIP_THEME` as `light` or `dark`, else `COLORFGBG` if the terminal
    /// sets it.
    pub fn from_env() -> Theme {
        let told = || {
            let ground = std::env::var("COLORFGBG").ok()?.rsplit(';').next()?.parse::<u8>().ok()?;
            Some(ground == 7 || ground == 15)
        };
        let light = match std::env::var("GOSSIP_THEME").as_deref() {
            Ok("light") => true,
            Ok("dark") => false,
            _ => told().unwrap_or(false),
        };
        let colour = std::env::var_os("NO_COLOR").is_none_or(|v| v.is_empty());
        Theme { colour, light }
    }

    /// Dark, with colours; for tests.
    pub fn dark() -> Theme {
        Theme { colour: true, light: false }
    }

    fn pick(self, dark: (u8, u8, u8), light: (u8, u8, u8)) -> Style {
        let (r, g, b) = if self.light { light } else { dark };
        if self.colour { Style::new().fg(Color::Rgb(r, g, b)) } else { Style::new() }
    }

    /// What has the focus.
    pub fn accent(self) -> Style {
        self.pick((236, 178, 92), (150, 84, 0)).add_modifier(Modifier::BOLD)
    }

    /// Secondary text.
    pub fn dim(self) -> Style {
        match self.colour {
            true => self.pick((118, 128, 140), (112, 112, 104)),
            false => Style::new().add_modifier(Modifier::DIM),
        }
    }

    /// Emphasized text.
    pub fn strong(self) -> Style {
        Style::new().add_modifier(Modifier::BOLD)
    }

    /// Arrived.
    pub fn heard(self) -> Style {
        self.pick((122, 200, 160), (20, 110, 70))
    }

    /// Withheld by a rule.
    pub fn withheld(self) -> Style {
        self.pick((230, 140, 96), (168, 70, 20))
    }

    /// Outside the query.
    pub fn outside(self) -> Style {
        self.pick((128, 158, 206), (40, 84, 150))
    }

    /// Late, or in flight.
    pub fn late(self) -> Style {
        self.pick((190, 152, 220), (110, 60, 150))
    }

    /// Missed: the most conspicuous style.
    pub fn missed(self) -> Style {
        match self.colour {
            true => Style::new().fg(Color::Rgb(255, 255, 255)).bg(Color::Rgb(196, 44, 60)).add_modifier(Modifier::BOLD),
            false => Style::new().add_modifier(Modifier::REVERSED | Modifier::BOLD),
        }
    }

    /// The background of the selected line.
    pub fn chosen(self) -> Style {
        match (self.colour, self.light) {
            (true, false) => Style::new().bg(Color::Rgb(38, 46, 56)),
            (true, true) => Style::new().bg(Color::Rgb(228, 222, 206)),
            (false, _) => Style::new().add_modifier(Modifier::REVERSED),
        }
    }
}
