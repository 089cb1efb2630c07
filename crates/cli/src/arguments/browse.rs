//! The arguments of `kyanite browse`.

use clap::{Args, ValueEnum, ValueHint};

use super::Reading;

/// `kyanite browse`.
#[derive(Args, Debug)]
#[command(after_help = "\
Examples:
  kyanite browse timetable.json
  kyanite browse manifest.xml notices.xml
  kyanite query \"$(kyanite browse timetable.json)\" timetable.json

Arrows walk and open lines, s searches, e takes a path, a rule or an XPath and shows what it selects as you type;
x leaves and prints the path of the current line, q leaves without. F1 tells all keys.")]
pub struct Browse {
    /// Files or http(s) URLs, each a tab; `-` or none is standard input
    #[arg(value_name = "INPUT", value_hint = ValueHint::FilePath, help_heading = "Arguments")]
    pub inputs: Vec<String>,
    /// How they are read.
    #[command(flatten)]
    pub reading: Reading,
    /// Colours for a terminal with that ground [default: as the terminal says in COLORFGBG, and else none that need it]
    #[arg(long, value_name = "GROUND", help_heading = "Look")]
    pub background: Option<Background>,
}

/// The ground of a terminal.
#[derive(ValueEnum, Clone, Copy, PartialEq, Eq, Debug)]
pub enum Background {
    /// Light signs on dark ground
    Dark,
    /// Dark signs on light ground
    Light,
}

impl Background {
    /// What the terminal says, if it does: the number of a colour behind the last semicolon.
    pub fn told() -> Option<Self> {
        Self::of_colors(&std::env::var("COLORFGBG").ok()?)
    }

    fn of_colors(colors: &str) -> Option<Self> {
        let ground: u8 = colors.rsplit(';').next()?.parse().ok()?;
        Some(if matches!(ground, 7 | 9..=15) { Self::Light } else { Self::Dark })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_terminals_say() {
        for (colors, expected) in [
            ("15;0", Some(Background::Dark)),
            ("0;15", Some(Background::Light)),
            ("0;default;7", Some(Background::Light)),
            ("12;8", Some(Background::Dark)),
            ("default;default", None),
            ("", None),
        ] {
            assert_eq!(Background::of_colors(colors), expected, "{colors}");
        }
    }
}
