//! What is watched, as data: a row a rule, what changed when, which rows are shown and in which order.

use super::ends::{End, ShownEnd, shown};
use std::sync::Arc;
use woodrush_core::check::Checked;
use woodrush_core::plan::{PlannedRule, Source, Station};
use woodrush_core::protocol::{Place, health_shown};
use woodrush_engine::bytes_of_hex;
use woodrush_engine::monitor::{LinkStatus, PortStatus, RuleValues, ValueState, Values};

/// How long a change is lit up, in milliseconds.
const LIT: u64 = 1000;

/// One rule: what it is called, and how its ends are read.
#[derive(Debug, Clone)]
pub(super) struct Rule {
    /// Its number in the plan.
    pub(super) number: u32,
    pub(super) name: String,
    pub(super) from: String,
    pub(super) to: String,
    source: Option<End>,
    target: Option<End>,
    /// Where a client writes it, where one may.
    pub(super) written: Option<String>,
    /// What a trace is asked for.
    pub(super) traced: Option<String>,
}

/// What a rule carries now.
#[derive(Debug, Clone)]
pub(super) struct Live {
    source: Option<Vec<u8>>,
    target: Option<Vec<u8>>,
    pub(super) age: Option<f64>,
    pub(super) state: ValueState,
    last_error: u16,
    /// When its words at the target changed last, in milliseconds.
    changed: Option<u64>,
}

/// In which order rows stand.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum RowOrder {
    File,
    Trouble,
    Changed,
    Age,
    Name,
}

impl RowOrder {
    pub(super) fn next(self) -> Self {
        match self {
            Self::File => Self::Trouble,
            Self::Trouble => Self::Changed,
            Self::Changed => Self::Age,
            Self::Age => Self::Name,
            Self::Name => Self::File,
        }
    }

    pub(super) const fn words(self) -> &'static str {
        match self {
            Self::File => "as in the file",
            Self::Trouble => "trouble first",
            Self::Changed => "latest change first",
            Self::Age => "oldest first",
            Self::Name => "by name",
        }
    }
}

/// Everything that is watched.
pub(super) struct Model {
    pub(super) checked: Arc<Checked>,
    rules: Vec<Rule>,
    live: Vec<Option<Live>>,
    pub(super) ports: Vec<PortStatus>,
    pub(super) links: Vec<LinkStatus>,
    /// What became of links at the last look, a sentence each.
    pub(super) moved: Vec<String>,
    pub(super) site: String,
    pub(super) uptime: u64,
    pub(super) order: RowOrder,
    /// Only rules that are not fresh.
    pub(super) trouble: bool,
    pub(super) filter: String,
    /// Milliseconds of the last look.
    now: u64,
}

impl Model {
    pub(super) fn new(checked: Arc<Checked>) -> Self {
        let plan = &checked.plan;
        let numbered = (0u32..).zip(&plan.rules).filter(|(_, rule)| rule.source != Source::Client);
        let rules: Vec<Rule> =
            numbered.filter_map(|(number, planned)| rule(&checked, number, planned)).collect();
        Self {
            live: rules.iter().map(|_| None).collect(),
            rules,
            ports: vec![],
            links: vec![],
            moved: vec![],
            site: checked.project.name.value.clone(),
            uptime: 0,
            order: RowOrder::File,
            trouble: false,
            filter: String::new(),
            now: 0,
            checked,
        }
    }

    /// Takes what the converter says, `now` in milliseconds; gives the rows whose words or state have changed.
    pub(super) fn take(&mut self, now: u64, values: Values) -> Vec<usize> {
        (self.now, self.uptime, self.ports) = (now, values.uptime_s, values.ports);
        self.moved = moved(&self.links, &values.links);
        self.links = values.links;
        let mut changed = vec![];
        // Both sides have the same rules in the same order; one that is missing keeps what it had.
        let mut at = 0;
        for new in values.rules {
            while self.rules.get(at).is_some_and(|rule| rule.number < new.rule) {
                at += 1;
            }
            let (Some(rule), Some(live)) = (self.rules.get(at), self.live.get_mut(at)) else { break };
            if rule.number != new.rule {
                continue;
            }
            if let Some(fresh) = update(live.as_ref(), &new, now) {
                if fresh.1 {
                    changed.push(at);
                }
                *live = Some(fresh.0);
            }
        }
        changed
    }

    /// How many rules there are, and how many of them are not fresh.
    pub(super) fn counts(&self) -> (usize, usize) {
        let ill = self.live.iter().flatten().filter(|live| live.state != ValueState::Fresh).count();
        (self.rules.len(), ill)
    }

    /// Whether all that is shown is fresh.
    pub(super) fn all_fresh(&self) -> bool {
        let live = |row: usize| self.live.get(row).and_then(Option::as_ref);
        self.rows().into_iter().all(|row| live(row).is_none_or(|live| live.state == ValueState::Fresh))
    }

    pub(super) fn rule(&self, row: usize) -> Option<(&Rule, Option<&Live>)> {
        Some((self.rules.get(row)?, self.live.get(row)?.as_ref()))
    }

    /// The rows that are shown, in order.
    pub(super) fn rows(&self) -> Vec<usize> {
        let wanted = self.filter.to_lowercase();
        let holds = |text: &str| text.to_lowercase().contains(&wanted);
        let mut rows: Vec<usize> = (0..self.rules.len())
            .filter(|row| {
                let Some((rule, live)) = self.rule(*row) else { return false };
                let fits = wanted.is_empty() || holds(&rule.name) || holds(&rule.from) || holds(&rule.to);
                fits && (!self.trouble || live.is_none_or(|live| live.state != ValueState::Fresh))
            })
            .collect();
        let live = |row: &usize| self.live.get(*row).and_then(Option::as_ref);
        match self.order {
            RowOrder::File => {}
            RowOrder::Trouble => {
                rows.sort_by_key(|row| std::cmp::Reverse(live(row).map_or(0, Live::trouble)))
            }
            RowOrder::Changed => {
                rows.sort_by_key(|row| std::cmp::Reverse(live(row).and_then(|live| live.changed)));
            }
            RowOrder::Age => rows.sort_by(|one, other| {
                let age = |row: &usize| live(row).and_then(|live| live.age).unwrap_or(-1.0);
                age(other).total_cmp(&age(one))
            }),
            RowOrder::Name => rows.sort_by(|one, other| {
                let name = |row: &usize| self.rules.get(*row).map(|rule| rule.from.as_str());
                name(one).cmp(&name(other))
            }),
        }
        rows
    }

    /// The source of a rule as it came last.
    pub(super) fn source(&self, row: usize) -> Option<ShownEnd> {
        let (rule, live) = self.rule(row)?;
        shown(rule.source.as_ref(), live?.source.as_deref())
    }

    /// The target of a rule as it stands.
    pub(super) fn target(&self, row: usize) -> Option<ShownEnd> {
        let (rule, live) = self.rule(row)?;
        shown(rule.target.as_ref(), live?.target.as_deref())
    }

    /// Whether a row has changed a moment ago.
    pub(super) fn is_lit(&self, row: usize) -> bool {
        let live = self.live.get(row).and_then(Option::as_ref);
        live.and_then(|live| live.changed).is_some_and(|at| self.now < at + LIT)
    }
}

/// The links whose state is another one than at the look before.
fn moved(before: &[LinkStatus], now: &[LinkStatus]) -> Vec<String> {
    let told = now.iter().filter_map(|link| {
        let old = before.iter().find(|old| old.with == link.with)?.counts.state;
        let new = link.counts.state;
        (old != new).then(|| format!("link {}: {}, was {}", link.with, new.word(), old.word()))
    });
    told.collect()
}

/// What a rule carries from now on, and whether that is something else than before.
fn update(before: Option<&Live>, new: &RuleValues, now: u64) -> Option<(Live, bool)> {
    let cells = |hex: &Option<String>| hex.as_deref().map(bytes_of_hex);
    let (source, target) = (cells(&new.source), cells(&new.target));
    let same = before.is_some_and(|live| live.target == target && live.source == source);
    let moved = !same || before.is_some_and(|live| live.state != new.state);
    // The first look changes nothing.
    let changed = match before {
        Some(live) if same => live.changed,
        Some(_) => Some(now),
        None => None,
    };
    let live = Live { source, target, age: new.age_s, state: new.state, last_error: new.last_error, changed };
    Some((live, moved))
}

impl Live {
    fn trouble(&self) -> u8 {
        match self.state {
            ValueState::Fresh => 0,
            ValueState::Held => 1,
            ValueState::Never => 2,
            ValueState::Lost => 3,
        }
    }

    /// Age where it is fresh, else what a reader gets, in words.
    pub(super) fn freshness(&self) -> String {
        let age = self.age.map(|age| format!("{age:.1} s"));
        match self.state {
            ValueState::Fresh => age.unwrap_or_else(|| "now".into()),
            ValueState::Held => format!("held {}", age.unwrap_or_default()).trim_end().to_string(),
            ValueState::Lost => "LOST".into(),
            ValueState::Never => "never".into(),
        }
    }

    /// The last failure, in words.
    pub(super) fn failure(&self) -> Option<String> {
        let words = match self.last_error {
            0 => return None,
            256 => "no answer".into(),
            257 => "the answer was damaged".into(),
            258 => "wrong unit, function or length".into(),
            259 => "not connected".into(),
            260 => "the value does not fit".into(),
            code => health_shown(code.into()),
        };
        Some(words)
    }
}

fn rule(checked: &Checked, number: u32, planned: &PlannedRule) -> Option<Rule> {
    let plan = &checked.plan;
    let map = checked.project.maps.get(planned.map)?;
    let (from_form, to_form) = (planned.conversion.from, planned.conversion.to);
    let mut eu = None;
    let (source, source_place) = match planned.source {
        Source::Values { owner, place, point } => {
            let point = point.and_then(|at| checked.project.profile_of(owner.device()?)?.points.get(at));
            eu = point.and_then(|point| point.eu.clone());
            (plan.station(owner), Some(place))
        }
        Source::ClientCells { image, place, .. } => (plan.images.get(image), Some(place)),
        Source::Health(_) | Source::Client => (None, None),
    };
    let same = from_form.scaling() == to_form.scaling();
    let target_eu = eu.clone().filter(|_| same);
    let source_end = source.zip(source_place).and_then(|(own, place)| End::new(own, place, from_form, eu));
    let board = plan.board(planned.board)?;
    let address = |station: &Station, place: Place| {
        let (dialect, space) = (station.dialect?, station.space_at(place.space)?);
        let shown = dialect.notation().show(space, place.first, place.width, place.bit, &station.setup);
        Some(format!("{}:{}", station.name, shown.canonical))
    };
    let to = address(board, planned.target)?;
    let image = planned.board < plan.images.len();
    // A client writes the image's end of a rule, whichever it is.
    let written = match planned.source {
        Source::ClientCells { .. } => source.zip(source_place).and_then(|(own, place)| address(own, place)),
        _ if image && planned.writable => Some(to.clone()),
        _ => None,
    };
    let traced = if image { Some(to.clone()) } else { written.clone() };
    let plain = |text: &str| text.split(" as ").next().unwrap_or_default().trim().to_string();
    Some(Rule {
        number,
        name: map.name.as_ref().map_or_else(|| (planned.map + 1).to_string(), |name| name.value.clone()),
        from: plain(&map.from.value),
        to,
        source: source_end,
        target: End::new(board, planned.target, to_form, target_eu),
        written,
        traced,
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::commands::small_site;

    const RULES: &str = r#"
[[map]]
name = "level"
from = "gauge:400001 as i16 scale 0.01"
to = "scada:400001 as f32 ABCD"
[[map]]
name = "pair"
from = "gauge:400011"
to = "scada:400011"
count = 2
access = "read-write"
[[map]]
name = "alive"
from = "gauge.health.online"
to = "scada:100001"
"#;

    fn model() -> Model {
        Model::new(Arc::new(small_site::with(RULES)))
    }

    /// Number, words at the source and at the target, age, and what a reader gets.
    type Row = (u32, Option<&'static str>, Option<&'static str>, Option<f64>, ValueState);

    fn values(rows: &[Row]) -> Values {
        let row = |(rule, source, target, age, state): &Row| RuleValues {
            rule: *rule,
            source: source.map(str::to_string),
            target: target.map(str::to_string),
            age_s: *age,
            state: *state,
            last_error: if *state == ValueState::Lost { 256 } else { 0 },
        };
        let rules = rows.iter().map(row).collect();
        Values {
            format: 1,
            site: "Small".into(),
            uptime_s: 9,
            project_id: String::new(),
            ports: vec![],
            links: vec![],
            rules,
        }
    }

    const GOOD: [Row; 3] = [
        (0, Some("06D2"), Some("418BAE14"), Some(0.2), ValueState::Fresh),
        (1, Some("00070008"), Some("00070008"), Some(0.4), ValueState::Fresh),
        (2, None, Some("01"), None, ValueState::Fresh),
    ];

    fn names(model: &Model) -> Vec<&str> {
        model.rows().iter().filter_map(|row| model.rule(*row)).map(|(rule, _)| rule.name.as_str()).collect()
    }

    #[test]
    fn both_ends_are_shown_as_their_forms_have_them() {
        let mut model = model();
        assert_eq!(model.take(0, values(&GOOD)), [0, 1, 2]);
        let source = model.source(0).unwrap();
        assert_eq!((source.raw, source.values), (vec!["06D2".to_string()], vec!["17.46".to_string()]));
        let target = model.target(0).unwrap();
        assert_eq!((target.raw, target.values), (vec!["418B AE14".to_string()], vec!["17.46".to_string()]));
        assert_eq!(model.source(1).unwrap().values, ["7", "8"], "every value of a rule");
        assert_eq!((model.source(2), model.target(2).unwrap().raw), (None, vec!["1".to_string()]));
        assert_eq!(model.counts(), (3, 0));
    }

    #[test]
    fn what_changes_is_lit_up_for_a_while_and_the_first_look_is_no_change() {
        let mut model = model();
        model.take(0, values(&GOOD));
        assert!(!model.is_lit(0), "nothing was there before");
        let mut next = GOOD;
        (next[0].1, next[0].2) = (Some("06D3"), Some("418BC28F"));
        assert_eq!(model.take(100, values(&next)), [0]);
        assert!(model.is_lit(0) && !model.is_lit(1));
        assert_eq!(model.take(100 + LIT, values(&next)), [0usize; 0]);
        assert!(!model.is_lit(0));
        next[1].4 = ValueState::Lost;
        assert_eq!(model.take(2000, values(&next)), [1], "a loss is news, though no word has changed");
        let lost = model.rule(1).and_then(|(_, live)| live).unwrap();
        assert_eq!((lost.freshness().as_str(), lost.failure().as_deref()), ("LOST", Some("no answer")));
    }

    #[test]
    fn rows_are_filtered_and_ordered() {
        let mut model = model();
        let mut bad = GOOD;
        (bad[1].4, bad[1].3) = (ValueState::Lost, Some(9.5));
        model.take(0, values(&bad));
        assert_eq!(names(&model), ["level", "pair", "alive"]);
        model.order = RowOrder::Trouble;
        assert_eq!(names(&model)[0], "pair");
        model.order = RowOrder::Age;
        assert_eq!(names(&model), ["pair", "level", "alive"]);
        model.order = RowOrder::Name;
        assert_eq!(names(&model), ["alive", "level", "pair"]);
        bad[2].2 = Some("00");
        model.take(50, values(&bad));
        model.order = RowOrder::Changed;
        assert_eq!(names(&model)[0], "alive");
        model.trouble = true;
        assert_eq!(names(&model), ["pair"]);
        (model.trouble, model.filter) = (false, "SCADA:4000".into());
        model.order = RowOrder::File;
        assert_eq!(names(&model), ["level", "pair"]);
    }

    #[test]
    fn only_what_a_client_may_write_can_be_written() {
        let model = model();
        let written: Vec<Option<&str>> =
            (0..3).map(|row| model.rule(row).unwrap().0.written.as_deref()).collect();
        assert_eq!(written, [None, Some("scada:400011"), None]);
    }
}
