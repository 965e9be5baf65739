//! A converter at work: its threads and tasks, from the first open to the last close, and the change to another project
//! in between.

use super::bindings::Bindings;
use super::keeper::Keeper;
use super::preparing::{Preparing, When};
use super::ready::{OpenPort, ReadyPort};
use super::serve::Serving;
use crate::moment::Clock;
use crate::shared::{Event, ProjectChange, Shared, Site};
use std::net::{Ipv4Addr, SocketAddr};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;
use woodrush_core::check::Checked;
use woodrush_core::plan::Plan;

/// How long a changed project waits for what is under way, in microseconds: longer than any line may take for a request
/// with all its retries.
const PATIENCE: u64 = 120_000_000;
/// How often it looks whether anything still is.
const LOOK: Duration = Duration::from_millis(100);

/// Why a converter cannot start: one port, in words, with the fix.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("port `{port}`: {what} ({fix})")]
pub struct StartFault {
    /// Name of the port.
    pub port: String,
    /// What is in the way.
    pub what: String,
    /// What to do.
    pub fix: String,
}

/// A converter at work; dropping it closes everything.
pub struct Running {
    /// The project that runs.
    pub site: Arc<Site>,
    clock: Clock,
    bindings: Bindings,
    open: Vec<OpenPort>,
    served: Arc<Mutex<Vec<Arc<Serving>>>>,
    keeper: Option<Keeper>,
    runtime: Option<tokio::runtime::Runtime>,
}

impl Drop for Running {
    fn drop(&mut self) {
        self.open.clear();
        self.keeper = None;
        if let Some(runtime) = self.runtime.take() {
            runtime.shutdown_timeout(Duration::from_millis(500));
        }
    }
}

/// Opens every port and begins. `plan` may differ from the project's only in tests that break it on purpose.
///
/// # Errors
/// The first port that cannot be opened.
pub fn start(
    checked: &Checked,
    plan: Arc<Plan>,
    bindings: &Bindings,
    tell: impl Fn(Event) + Send + Sync + 'static,
) -> Result<Running, StartFault> {
    let shared = Shared::new(checked, plan, tell);
    let mut builder = tokio::runtime::Builder::new_multi_thread();
    let runtime = builder.worker_threads(2).enable_io().build().map_err(|error| StartFault {
        port: String::new(),
        what: format!("no threads: {error}"),
        fix: "free memory or raise the limit of threads".into(),
    })?;
    let served = Arc::default();
    let mut running = Running {
        site: Site::new(Arc::clone(&shared)),
        clock: Clock::start(),
        bindings: bindings.clone(),
        open: vec![],
        keeper: Some(Keeper::spawn(&served)),
        served,
        runtime: Some(runtime),
    };
    let ready = running.prepare(checked, &shared, When::Start)?;
    running.begin(ready);
    Ok(running)
}

impl Running {
    /// Where each listening port really is, by index.
    #[must_use]
    pub fn listening(&self) -> Vec<(usize, SocketAddr)> {
        let shared = self.site.current();
        let place = |open: &OpenPort| {
            let port = shared.ports.iter().position(|port| port.name == open.name)?;
            Some((port, open.listens_at()?))
        };
        self.open.iter().filter_map(place).collect()
    }

    /// Where stations of networks are that are not where the project says: port, its own address, and the real one.
    #[must_use]
    pub fn elsewhere_stations(&self) -> Vec<(usize, Ipv4Addr, Ipv4Addr)> {
        self.bindings.network_stations.iter().map(|((port, own), real)| (*port, *own, *real)).collect()
    }

    /// What is shared now.
    #[must_use]
    pub fn shared(&self) -> Arc<Shared> {
        self.site.current()
    }

    pub(crate) fn clock(&self) -> Clock {
        self.clock
    }

    /// Takes a changed project: ports, connections and values that the change does not touch stay as they are. All that is
    /// new is opened first; then what is under way at lines ends; then the changed project takes over in one moment. Says
    /// what was done.
    ///
    /// # Errors
    /// A port that is new or changed cannot be opened, or something under way does not end; then nothing has changed.
    pub fn reload(&mut self, checked: &Checked, plan: Arc<Plan>) -> Result<String, StartFault> {
        let old = self.site.current();
        let next = Arc::new(Shared::renewed(checked, plan, old.teller(), Some(&old)));
        let ready = self.prepare(checked, &next, When::Reload)?;
        self.swap(&ProjectChange::between(&old, Arc::clone(&next)))?;
        let before = self.open.len();
        let stays = |open: &OpenPort| next.ports.iter().any(|port| open.is(port));
        let (stay, go): (Vec<_>, Vec<_>) = std::mem::take(&mut self.open).into_iter().partition(stays);
        self.open = stay;
        // Those that go are closed before others open the same lines.
        go.into_iter().for_each(OpenPort::close);
        self.lock_served().retain(|serving| self.open.iter().any(|open| open.serves(serving)));
        let (stayed, opens) = (self.open.len(), ready.iter().map(ReadyPort::count).sum::<usize>());
        self.open.iter().for_each(OpenPort::look);
        self.begin(ready);
        let what = format!("reloaded: {stayed} ports stay open, {} closed, {opens} opened", before - stayed);
        next.tell(Event::Reloaded { what: what.clone() });
        Ok(what)
    }

    /// Lets what is under way end, and then the changed project take over.
    fn swap(&self, change: &Arc<ProjectChange>) -> Result<(), StartFault> {
        self.site.hold(true);
        let began = self.clock.now();
        while !self.site.try_replace(change) {
            if self.clock.now().since(began) > PATIENCE {
                self.site.hold(false);
                self.open.iter().for_each(OpenPort::look);
                return Err(StartFault {
                    port: self.site.busy_ports().join(", "),
                    what: format!("a request under way has not ended within {} s", PATIENCE / 1_000_000),
                    fix: "try again".into(),
                });
            }
            self.site.wait_until_idle(LOOK);
        }
        Ok(())
    }

    fn lock_served(&self) -> std::sync::MutexGuard<'_, Vec<Arc<Serving>>> {
        self.served.lock().unwrap_or_else(PoisonError::into_inner)
    }

    fn prepare(
        &self,
        checked: &Checked,
        shared: &Arc<Shared>,
        when: When,
    ) -> Result<Vec<ReadyPort>, StartFault> {
        let runtime = self.runtime.as_ref().map(|runtime| runtime.handle().clone());
        Preparing {
            site: &self.site,
            clock: self.clock,
            bindings: &self.bindings,
            open: &self.open,
            runtime,
            checked,
            shared,
            when,
        }
        .all()
    }

    /// Lets prepared ports begin. The project that they are of runs.
    fn begin(&mut self, ready: Vec<ReadyPort>) {
        for port in ready {
            let opened = port.begin(&self.site, self.clock);
            let serving = opened.iter().filter_map(OpenPort::serving).cloned();
            self.lock_served().extend(serving.collect::<Vec<_>>());
            self.open.extend(opened);
        }
    }
}
