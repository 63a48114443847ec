//! The views, as the rail names them.

/// A view of the workbench.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Hash)]
pub enum View {
    /// Who heard what.
    #[default]
    Earshot,
    /// Live queries as several people side by side.
    Ask,
    /// What streams, and the problems.
    Tables,
    /// Who may read what, and what another rule would change.
    Rules,
    /// How changes travel between instances, and where they wait.
    Relay,
    /// Who is connected, and what waits for whom.
    Clients,
    /// Rates, delays and what waits, over time.
    Charts,
    /// From a database to the first change heard by a client.
    Steps,
}

impl View {
    /// All views, in the order of the rail.
    pub const ALL: [View; 8] =
        [View::Earshot, View::Ask, View::Tables, View::Rules, View::Relay, View::Clients, View::Charts, View::Steps];

    /// Its name.
    pub fn name(self) -> &'static str {
        match self {
            View::Earshot => "Earshot",
            View::Ask => "Ask",
            View::Tables => "Tables",
            View::Rules => "Rules",
            View::Relay => "Relay",
            View::Clients => "Clients",
            View::Charts => "Charts",
            View::Steps => "Steps",
        }
    }

    /// The question that it answers.
    pub fn question(self) -> &'static str {
        match self {
            View::Earshot => "who heard what, and why not",
            View::Ask => "what several people see of the same query, while it changes",
            View::Tables => "what streams, who may read it, and what is in the way",
            View::Rules => "who may read what, and what another rule would change",
            View::Relay => "how changes travel between instances, and where they wait",
            View::Clients => "who is connected, who came and went, and what waits for whom",
            View::Charts => "how much, how fast, and what waits, over time",
            View::Steps => "from a database to a first change that somebody hears",
        }
    }

    /// The key that goes there.
    pub fn key(self) -> char {
        match self {
            View::Earshot => '1',
            View::Ask => '2',
            View::Tables => '3',
            View::Rules => '4',
            View::Relay => '5',
            View::Clients => '6',
            View::Charts => '7',
            View::Steps => '0',
        }
    }
}
