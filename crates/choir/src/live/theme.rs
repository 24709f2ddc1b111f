//! Colours, and what stands in for them where there are none.

use crate::output::palette::{self, Rgb};
use choir_core::{
    facts::{EventGrade, State},
    view::TallyView,
};
use ratatui::style::{Color, Modifier, Style};

const fn rgb((r, g, b): Rgb) -> Color {
    Color::Rgb(r, g, b)
}

/// How things look.
#[derive(Debug, Clone, Copy)]
pub struct Theme {
    colour: bool,
}

impl Theme {
    /// Colour unless `NO_COLOR` is set (to anything but nothing) or the terminal has none.
    pub fn from_env() -> Self {
        Self { colour: palette::colours(true) }
    }

    /// There is colour.
    pub fn has_colour(self) -> bool {
        self.colour
    }

    #[cfg(test)]
    pub fn coloured() -> Self {
        Self { colour: true }
    }

    #[cfg(test)]
    pub fn plain() -> Self {
        Self { colour: false }
    }

    fn fg(self, colour: Color) -> Style {
        if self.colour { Style::new().fg(colour) } else { Style::new() }
    }

    /// A word and its weight say what the colour says.
    pub fn state(self, state: Option<State>) -> Style {
        match state {
            Some(State::Steady) => self.fg(rgb(palette::GOOD)),
            Some(State::Strained) => self.fg(rgb(palette::WARNING)).add_modifier(Modifier::BOLD),
            Some(State::Broken) => self.fg(rgb(palette::BAD)).add_modifier(Modifier::BOLD | Modifier::REVERSED),
            Some(State::Joining) => self.fg(Color::Rgb(120, 170, 230)),
            Some(State::Held) => self.fg(Color::Rgb(190, 150, 210)),
            Some(State::Waiting) | None => self.quiet(),
        }
    }

    pub fn event(self, grade: EventGrade) -> Style {
        match grade {
            EventGrade::Note => self.quiet(),
            EventGrade::Good => self.state(Some(State::Steady)),
            EventGrade::Warning => self.fg(rgb(palette::WARNING)),
            EventGrade::Trouble => self.fg(rgb(palette::BAD)).add_modifier(Modifier::BOLD),
        }
    }

    /// What receivers show: the word says what the colour says.
    pub fn tally(self, tally: Option<TallyView>) -> Style {
        match tally {
            Some(TallyView::OnAir) => self.fg(rgb(palette::BAD)).add_modifier(Modifier::BOLD | Modifier::REVERSED),
            Some(TallyView::Next) => self.fg(rgb(palette::GOOD)).add_modifier(Modifier::BOLD),
            None => self.quiet(),
        }
    }

    pub fn title(self) -> Style {
        self.fg(Color::Rgb(150, 205, 225)).add_modifier(Modifier::BOLD)
    }
    pub fn typed(self) -> Style {
        Style::new().add_modifier(Modifier::REVERSED)
    }
    pub fn head(self) -> Style {
        self.fg(rgb(palette::QUIET))
    }
    pub fn quiet(self) -> Style {
        if self.colour { Style::new().fg(rgb(palette::QUIET)) } else { Style::new().add_modifier(Modifier::DIM) }
    }
    pub fn chosen(self) -> Style {
        if self.colour { Style::new().bg(Color::Rgb(38, 50, 64)) } else { Style::new().add_modifier(Modifier::UNDERLINED) }
    }
    /// What is drawn upon a picture.
    pub fn over_picture(self) -> Style {
        let bold = Style::new().add_modifier(Modifier::BOLD);
        if self.colour { bold.fg(Color::Rgb(255, 255, 255)) } else { bold }
    }
    pub fn chart(self) -> Style {
        self.fg(Color::Rgb(110, 170, 200))
    }
    pub fn alarm(self) -> Style {
        self.fg(rgb(palette::BAD))
    }
    pub fn border(self) -> Style {
        self.fg(Color::Rgb(70, 84, 100))
    }
}
