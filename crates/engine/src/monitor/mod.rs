//! What a running converter counts and thinks, for people and programs; nothing here changes anything.

mod bounded;
mod http;
mod metrics;
mod status;
mod values;

#[cfg(any(test, feature = "exercise"))]
pub(crate) use http::exercised;
pub use http::{Http, fetch, fetch_values};
pub use status::{ClientStatus, DeviceStatus, LinkStatus, PortStatus, RuleStatus, Status};

pub use values::{RuleValues, ValueState, Values};

use crate::moment::Clock;
use crate::shared::Site;
use status::Names;
use std::sync::{Arc, PoisonError, RwLock};
use woodrush_core::check::Checked;

/// Looks at a running converter.
pub struct Monitor {
    site: Arc<Site>,
    clock: Clock,
    names: RwLock<Arc<Names>>,
}

impl Monitor {
    /// Of a converter that runs this project.
    #[must_use]
    pub fn new(running: &crate::converter::Running, checked: &Checked) -> Arc<Self> {
        let shared = running.shared();
        let names = RwLock::new(Arc::new(Names::of(checked, &shared.plan)));
        Arc::new(Self { site: Arc::clone(&running.site), clock: running.clock(), names })
    }

    /// The converter runs a changed project.
    pub fn renew(&self, checked: &Checked, plan: &woodrush_core::plan::Plan) {
        let names = Names::of(checked, plan);
        *self.names.write().unwrap_or_else(PoisonError::into_inner) = Arc::new(names);
    }

    /// Everything that is counted, now.
    #[must_use]
    pub fn status(&self) -> Status {
        let names = Arc::clone(&self.names.read().unwrap_or_else(PoisonError::into_inner));
        status::look(&self.site.current(), &names, self.clock.now())
    }

    /// What each rule carries, now.
    #[must_use]
    pub fn values(&self) -> Values {
        let names = Arc::clone(&self.names.read().unwrap_or_else(PoisonError::into_inner));
        values::look(&self.site.current(), &names, self.clock.now())
    }

    /// Counters from 0 on.
    pub fn reset(&self) {
        self.site.current().health.reset();
    }
}
