//! What the person at the screen has chosen, and what keys make of it.

use super::model::Model;
use crate::console::Tone;
use ratatui::crossterm::event::{KeyCode, KeyEvent, KeyModifiers};

/// What is typed now.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) enum Prompt {
    None,
    /// The filter.
    Filter(String),
    /// A value that is to be written.
    Value {
        /// Where.
        at: String,
        text: String,
    },
    /// Whether it is to be written.
    Sure {
        at: String,
        text: String,
        question: String,
    },
}

/// What the screen shows of the model.
#[derive(Debug)]
pub(super) struct WatchView {
    /// The chosen row, by its number in the model.
    pub(super) chosen: Option<usize>,
    /// The first row in sight, and how many fit.
    pub(super) top: usize,
    pub(super) page: usize,
    /// The row that is opened.
    pub(super) opened: Option<usize>,
    pub(super) help: bool,
    pub(super) prompt: Prompt,
    /// The last thing that was told, until the next key.
    pub(super) said: Option<(Tone, String)>,
    /// The converter does not answer.
    pub(super) fault: Option<String>,
    /// Where the converter is.
    pub(super) place: String,
}

/// What a key asks for that the screen alone cannot do.
#[derive(Debug, PartialEq, Eq)]
pub(super) enum Wish {
    Nothing,
    End,
    /// Whether such a value may be written, and what it would replace.
    Judge {
        at: String,
        text: String,
    },
    /// Write it.
    Write {
        at: String,
        text: String,
    },
}

impl WatchView {
    pub(super) fn new(place: String) -> Self {
        Self {
            chosen: None,
            top: 0,
            page: 1,
            opened: None,
            help: false,
            prompt: Prompt::None,
            said: None,
            fault: None,
            place,
        }
    }

    /// Takes a key.
    pub(super) fn key(&mut self, model: &mut Model, key: KeyEvent) -> Wish {
        if key.modifiers.contains(KeyModifiers::CONTROL) && matches!(key.code, KeyCode::Char('c' | 'd')) {
            return Wish::End;
        }
        self.said = None;
        match std::mem::replace(&mut self.prompt, Prompt::None) {
            Prompt::None => self.command(model, key.code),
            Prompt::Filter(text) => {
                if let Some(text) = self.typed(key.code, text, Prompt::Filter) {
                    model.filter = text;
                }
                Wish::Nothing
            }
            Prompt::Value { at, text } => {
                let place = at.clone();
                match self.typed(key.code, text, |text| Prompt::Value { at: place, text }) {
                    Some(text) if !text.trim().is_empty() => {
                        Wish::Judge { at, text: text.trim().to_string() }
                    }
                    _ => Wish::Nothing,
                }
            }
            Prompt::Sure { at, text, .. } => match key.code {
                KeyCode::Char('y' | 'Y') => Wish::Write { at, text },
                _ => {
                    self.said = Some((Tone::Faint, format!("{at} is left as it is")));
                    Wish::Nothing
                }
            },
        }
    }

    /// Types on; gives the text once it is finished, nothing once it is given up.
    fn typed(
        &mut self,
        code: KeyCode,
        mut text: String,
        again: impl FnOnce(String) -> Prompt,
    ) -> Option<String> {
        match code {
            KeyCode::Enter => return Some(text),
            KeyCode::Esc => return None,
            KeyCode::Backspace => drop(text.pop()),
            KeyCode::Char(char) => text.push(char),
            _ => {}
        }
        self.prompt = again(text);
        None
    }

    fn command(&mut self, model: &mut Model, code: KeyCode) -> Wish {
        if std::mem::take(&mut self.help) {
            return Wish::Nothing;
        }
        let page = i64::try_from(self.page.saturating_sub(1).max(1)).unwrap_or(1);
        match code {
            KeyCode::Char('q') => return Wish::End,
            KeyCode::Esc if self.opened.take().is_some() => {}
            KeyCode::Esc if !model.filter.is_empty() => model.filter.clear(),
            KeyCode::Up | KeyCode::Char('k') => self.step(model, -1),
            KeyCode::Down | KeyCode::Char('j') => self.step(model, 1),
            KeyCode::PageUp => self.step(model, -page),
            KeyCode::PageDown => self.step(model, page),
            KeyCode::Home => self.step(model, i64::MIN / 2),
            KeyCode::End => self.step(model, i64::MAX / 2),
            KeyCode::Enter => self.opened = if self.opened == self.chosen { None } else { self.chosen },
            KeyCode::Char('/') => self.prompt = Prompt::Filter(String::new()),
            KeyCode::Char('t') => model.trouble = !model.trouble,
            KeyCode::Char('s') => model.order = model.order.next(),
            KeyCode::Char('?') => self.help = true,
            KeyCode::Char('w') => self.write(model),
            _ => {}
        }
        Wish::Nothing
    }

    fn step(&mut self, model: &Model, by: i64) {
        let rows = model.rows();
        let at = self.chosen.and_then(|chosen| rows.iter().position(|row| *row == chosen)).unwrap_or(0);
        let last = i64::try_from(rows.len()).unwrap_or(i64::MAX) - 1;
        let next = i64::try_from(at).unwrap_or(0).saturating_add(by).clamp(0, last.max(0));
        self.chosen = usize::try_from(next).ok().and_then(|next| rows.get(next)).copied();
        if self.opened.is_some() {
            self.opened = self.chosen;
        }
    }

    fn write(&mut self, model: &Model) {
        let chosen = self.chosen.and_then(|row| model.rule(row));
        match chosen.map(|(rule, _)| (rule.written.clone(), rule)) {
            Some((Some(at), _)) => self.prompt = Prompt::Value { at, text: String::new() },
            Some((None, rule)) => {
                let why = format!(
                    "{} takes no write of a client (its rule is read-only: `access = \"read-write\"` allows it)",
                    rule.to
                );
                self.said = Some((Tone::Doubt, why));
            }
            None => {}
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::commands::small_site;
    use crate::commands::watch::model::RowOrder;
    use std::sync::Arc;

    /// Twelve rules, of which the first takes writes.
    fn model() -> Model {
        let mut rules = String::new();
        for rule in 1..=12 {
            rules += &format!("[[map]]\nfrom = \"gauge:{0}\"\nto = \"scada:{0}\"\n", 400_000 + rule);
            if rule == 1 {
                rules += "access = \"read-write\"\n";
            }
        }
        Model::new(Arc::new(small_site::with(&rules)))
    }

    fn press(view: &mut WatchView, model: &mut Model, code: KeyCode) -> Wish {
        view.key(model, KeyEvent::new(code, KeyModifiers::NONE))
    }

    fn typed(view: &mut WatchView, model: &mut Model, text: &str) {
        for char in text.chars() {
            assert_eq!(press(view, model, KeyCode::Char(char)), Wish::Nothing);
        }
    }

    #[test]
    fn keys_choose_a_row_and_never_leave_the_list() {
        let (mut model, mut view) = (model(), WatchView::new("here".into()));
        (view.chosen, view.page) = (Some(0), 5);
        let mut at = |code| {
            press(&mut view, &mut model, code);
            view.chosen
        };
        assert_eq!(at(KeyCode::Up), Some(0));
        assert_eq!(at(KeyCode::Down), Some(1));
        assert_eq!(at(KeyCode::PageDown), Some(5));
        assert_eq!(at(KeyCode::End), Some(11));
        assert_eq!(at(KeyCode::Down), Some(11));
        assert_eq!(at(KeyCode::PageUp), Some(7));
        assert_eq!(at(KeyCode::Home), Some(0));
    }

    #[test]
    fn an_opened_row_follows_the_choice_and_closes_again() {
        let (mut model, mut view) = (model(), WatchView::new("here".into()));
        view.chosen = Some(3);
        press(&mut view, &mut model, KeyCode::Enter);
        assert_eq!(view.opened, Some(3));
        press(&mut view, &mut model, KeyCode::Down);
        assert_eq!(view.opened, Some(4));
        press(&mut view, &mut model, KeyCode::Enter);
        assert_eq!(view.opened, None);
    }

    #[test]
    fn a_filter_is_typed_mended_taken_and_taken_away() {
        let (mut model, mut view) = (model(), WatchView::new("here".into()));
        press(&mut view, &mut model, KeyCode::Char('/'));
        // Letters that are commands elsewhere are letters here.
        typed(&mut view, &mut model, "40001q");
        press(&mut view, &mut model, KeyCode::Backspace);
        assert_eq!(model.filter, "", "not before it is taken");
        press(&mut view, &mut model, KeyCode::Enter);
        assert_eq!((model.filter.as_str(), model.rows().len()), ("40001", 3));
        press(&mut view, &mut model, KeyCode::Char('/'));
        typed(&mut view, &mut model, "x");
        press(&mut view, &mut model, KeyCode::Esc);
        assert_eq!(model.filter, "40001", "given up");
        press(&mut view, &mut model, KeyCode::Esc);
        assert_eq!(model.filter, "");
    }

    #[test]
    fn a_value_is_written_only_where_one_may_and_only_once_it_is_confirmed() {
        let (mut model, mut view) = (model(), WatchView::new("here".into()));
        view.chosen = Some(1);
        press(&mut view, &mut model, KeyCode::Char('w'));
        assert_eq!(view.prompt, Prompt::None);
        assert!(view.said.as_ref().is_some_and(|(_, said)| said.contains("takes no write of a client")));
        view.chosen = Some(0);
        press(&mut view, &mut model, KeyCode::Char('w'));
        assert_eq!(press(&mut view, &mut model, KeyCode::Enter), Wish::Nothing, "no value, no write");
        press(&mut view, &mut model, KeyCode::Char('w'));
        typed(&mut view, &mut model, " 42");
        let (at, text) = ("scada:400001".to_string(), "42".to_string());
        let judged = press(&mut view, &mut model, KeyCode::Enter);
        assert_eq!(judged, Wish::Judge { at: at.clone(), text: text.clone() });
        let sure = || Prompt::Sure { at: at.clone(), text: text.clone(), question: String::new() };
        view.prompt = sure();
        assert_eq!(press(&mut view, &mut model, KeyCode::Enter), Wish::Nothing);
        assert!(view.said.as_ref().is_some_and(|(_, said)| said.contains("left as it is")));
        view.prompt = sure();
        let confirmed = press(&mut view, &mut model, KeyCode::Char('y'));
        assert_eq!(confirmed, Wish::Write { at: at.clone(), text: text.clone() });
    }

    #[test]
    fn it_ends_by_q_and_by_ctrl_c_whatever_is_typed() {
        let (mut model, mut view) = (model(), WatchView::new("here".into()));
        assert_eq!(press(&mut view, &mut model, KeyCode::Char('q')), Wish::End);
        press(&mut view, &mut model, KeyCode::Char('/'));
        let ctrl_c = KeyEvent::new(KeyCode::Char('c'), KeyModifiers::CONTROL);
        assert_eq!(view.key(&mut model, ctrl_c), Wish::End);
        view.prompt = Prompt::None;
        press(&mut view, &mut model, KeyCode::Char('?'));
        assert!(view.help);
        assert_eq!(
            press(&mut view, &mut model, KeyCode::Char('q')),
            Wish::Nothing,
            "any key puts the help away"
        );
        press(&mut view, &mut model, KeyCode::Char('s'));
        press(&mut view, &mut model, KeyCode::Char('t'));
        assert_eq!((model.order, model.trouble), (RowOrder::Trouble, true));
    }
}
