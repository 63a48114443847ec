//! The views, as the rail names them.

/// A view of the workbench.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Hash)]
pub enum View {
    /// Who heard what.
    #[default]
    Earshot,
    /// Live queries as several people side by side.
    Ask,
    /// What streams, and what is in the way.
    Tables,
    /// From a database to a first change that somebody hears.
    Steps,
}

impl View {
    /// All views, in the order of the rail.
    pub const ALL: [View; 4] = [View::Earshot, View::Ask, View::Tables, View::Steps];

    /// Its name.
    pub fn name(self) -> &'static str {
        match self {
            View::Earshot => "Earshot",
            View::Ask => "Ask",
            View::Tables => "Tables",
            View::Steps => "Steps",
        }
    }

    /// The question that it answers.
    pub fn question(self) -> &'static str {
        match self {
            View::Earshot => "who heard what, and why not",
            View::Ask => "what several people see of the same query, while it changes",
            View::Tables => "what streams, who may read it, and what is in the way",
            View::Steps => "from a database to a first change that somebody hears",
        }
    }

    /// The key that goes there.
    pub fn key(self) -> char {
        match self {
            View::Earshot => '1',
            View::Ask => '2',
            View::Tables => '3',
            View::Steps => '0',
        }
    }
}
