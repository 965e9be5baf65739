//! `woodrush watch`: values at both ends of every rule as they change, on a full screen, or line by line where there is no
//! terminal.

mod ends;
mod feed;
mod model;
mod plain;
mod screen;
mod state;
mod writing;

use crate::args::{Format, Global, WatchArgs};
use crate::commands::run::{Attach, Converter, claim};
use crate::console::{Console, Tone};
use crate::{Failure, Verdict};
use feed::{Feed, Following};
use model::Model;
use ratatui::crossterm::event::{self, Event, KeyEventKind};
use screen::Paint;
use state::{WatchView, Wish};
use std::collections::BTreeMap;
use std::io::IsTerminal;
use std::path::Path;
use std::sync::Arc;
use std::time::{Duration, Instant};
use woodrush_core::check::Checked;
use woodrush_core::project::micros;
use woodrush_engine::control::{Remote, Whose};
use woodrush_engine::keyboard::{Keyboard, keyboard};
use woodrush_engine::monitor::Values;
use woodrush_engine::stop::Stop;
use writing::Writer;

/// How long a look at the keyboard waits.
const KEYS: Duration = Duration::from_millis(100);

pub(crate) fn run(console: &mut Console, global: &Global, args: &WatchArgs) -> Result<Verdict, Failure> {
    let time = |name: &str, text: &str| {
        let time = micros(text).filter(|time| *time > 0).map(Duration::from_micros);
        time.ok_or_else(|| {
            Failure::Usage(format!("`--{name} {text}` is not a time (write it as 250ms or 1m)"))
        })
    };
    let every = time("every", &args.every)?;
    let lasting = args.lasting.as_deref().map(|text| time("for", text)).transpose()?;
    let path = crate::project::find(global)?;
    let Some(checked) = crate::project::load_sound(console, &path)? else { return Ok(Verdict::No) };
    let stop = Stop::with_terminal()
        .map_err(|error| Failure::Outside(format!("signals cannot be heard: {error}")))?;
    let checked = Arc::new(checked);
    // Held so that it goes on until the end.
    let own = own_converter(args, &path, &checked)?;
    let feed = match args.monitor {
        Some(at) => Feed::Elsewhere(at),
        None => Feed::Here(Remote::of(Whose::Run, &path)),
    };
    let mut place = feed.shown();
    if own.is_some() {
        place = "on the rig".into();
    }
    let (first, following) = feed.follow(every).map_err(|failure| not_running(failure, args))?;
    let mut model = Model::new(checked);
    model.filter = args.filter.clone().unwrap_or_default();
    model.trouble = args.trouble;
    renew(&mut model, &path, &first)?;
    let rows = model.take(0, first);
    let screen = console.format == Format::Text
        && !args.plain
        && std::io::stdout().is_terminal()
        && std::io::stdin().is_terminal();
    if !screen {
        let followed = plain::Followed { stop: &stop, following: &following, path: &path, lasting };
        return followed.follow(console, &mut model, rows);
    }
    let writer = Writer::new(global, args);
    let paint = Paint(console.has_colour());
    let mut terminal = ratatui::try_init()
        .map_err(|error| Failure::Outside(format!("the terminal cannot be used: {error} (try `--plain`)")))?;
    let shown = FullScreen { stop: &stop, following: &following, path: &path, lasting, paint };
    let result = shown.follow(&mut terminal, &mut model, WatchView::new(place), writer);
    let gone = keyboard(Duration::ZERO) == Keyboard::Gone;
    if gone {
        // Giving it back would fail, and the complaint about that has nowhere to go.
        std::mem::forget(terminal);
        return Ok(Verdict::Yes);
    }
    ratatui::try_restore()?;
    result
}

/// With `--rig` and no converter: one of our own, attached to the running rig.
fn own_converter(args: &WatchArgs, path: &Path, checked: &Checked) -> Result<Option<Converter>, Failure> {
    if !args.rig || Remote::of(Whose::Run, path).say("where", &[]).is_ok() {
        return Ok(None);
    }
    let plan = Arc::new(checked.plan.clone());
    let to = Attach { rig: true, may_be_missing: false, kept: BTreeMap::new() };
    Converter::start(path, claim(path)?, checked, plan, &to, |_| {}).map(Some)
}

fn not_running(failure: Failure, args: &WatchArgs) -> Failure {
    match (failure, args.monitor) {
        (Failure::Outside(why), None) if why == feed::ENDED => Failure::Outside(
            "no converter of this project is running here (start `woodrush run`; `--rig` brings one up on a running rig, `--monitor HOST:PORT` asks one elsewhere)".into(),
        ),
        (failure, _) => failure,
    }
}

/// Values are only read right with the map that they belong to: where the converter has taken a changed project, its file
/// is read again; whether it was.
fn renew(model: &mut Model, path: &Path, values: &Values) -> Result<bool, Failure> {
    let map = |checked: &Checked| format!("{:016x}", checked.plan.fingerprint(&checked.project));
    let own = map(&model.checked);
    if own == values.project_id {
        return Ok(false);
    }
    if let Ok(changed) = crate::project::load(path)
        && map(&changed) == values.project_id
    {
        let (filter, trouble, order) = (std::mem::take(&mut model.filter), model.trouble, model.order);
        *model = Model::new(Arc::new(changed));
        (model.filter, model.trouble, model.order) = (filter, trouble, order);
        return Ok(true);
    }
    Err(Failure::Outside(format!(
        "M38: the running converter runs another project (id {}) than this file ({own}), so its values would be read wrong (reload it: SIGHUP, or `run --follow`; or name its file with `-p`)",
        values.project_id
    )))
}

/// The full screen.
struct FullScreen<'s> {
    stop: &'s Stop,
    following: &'s Following,
    path: &'s Path,
    lasting: Option<Duration>,
    paint: Paint,
}

impl FullScreen<'_> {
    fn follow(
        &self,
        terminal: &mut ratatui::DefaultTerminal,
        model: &mut Model,
        mut view: WatchView,
        mut writer: Writer,
    ) -> Result<Verdict, Failure> {
        #[allow(clippy::disallowed_methods, reason = "a command that keeps time for a person")]
        let began = Instant::now();
        let mut stale = true;
        // What is lit up fades by time alone.
        let mut drawn = Duration::ZERO;
        while !self.stop.is_asked() && self.lasting.is_none_or(|lasting| began.elapsed() < lasting) {
            let now = began.elapsed();
            if stale || now.saturating_sub(drawn) >= Duration::from_millis(500) {
                terminal.draw(|frame| screen::draw(frame, model, &mut view, self.paint))?;
                (stale, drawn) = (false, now);
            }
            if keyboard(KEYS) == Keyboard::Gone {
                return Ok(Verdict::Yes);
            }
            // Changes of the terminal's size come this way too.
            while event::poll(Duration::ZERO)? {
                stale = true;
                let Event::Key(key) = event::read()? else { continue };
                if key.kind == KeyEventKind::Release {
                    continue;
                }
                match view.key(model, key) {
                    Wish::Nothing => {}
                    Wish::End => return Ok(Verdict::Yes),
                    Wish::Judge { at, text } => view.prompt = writer.judge(&mut view.said, at, text),
                    Wish::Write { at, text } => view.said = Some(writer.begin(&at, &text)),
                }
            }
            if let Some(said) = writer.ended() {
                (view.said, stale) = (Some(said), true);
            }
            match self.following.latest() {
                Some(Ok(values)) => {
                    stale = true;
                    view.fault = match renew(model, self.path, &values) {
                        Ok(renewed) => {
                            if renewed {
                                (view.chosen, view.opened) = (None, None);
                                view.said = Some((Tone::Accent, "the project was reloaded".into()));
                            }
                            None
                        }
                        Err(Failure::Outside(why) | Failure::Usage(why)) => Some(why),
                        Err(Failure::OutputClosed) => Some(String::new()),
                    };
                    let now = u64::try_from(began.elapsed().as_millis()).unwrap_or(u64::MAX);
                    if view.fault.is_none() {
                        model.take(now, values);
                    }
                }
                Some(Err(why)) => (view.fault, stale) = (Some(why), true),
                None => {}
            }
        }
        Ok(Verdict::Yes)
    }
}
