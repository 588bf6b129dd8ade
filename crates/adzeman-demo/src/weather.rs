//! The weather, and the only source of chance.

use rand_chacha::ChaCha8Rng;
use rand_chacha::rand_core::{Rng as _, SeedableRng as _};
use serde::{Deserialize, Serialize};

use crate::canal::Pound;

/// Chance that gives the same numbers for the same seed, everywhere.
#[derive(Debug)]
pub(crate) struct Chance(ChaCha8Rng);

impl Chance {
    pub(crate) fn new(seed: u64) -> Self {
        Self(ChaCha8Rng::seed_from_u64(seed))
    }

    /// From 0 up to, but not, 1.
    pub(crate) fn share(&mut self) -> f64 {
        // 53 bits are what a float holds exactly.
        #[expect(clippy::cast_precision_loss, reason = "53 bits fit")]
        let bits = (self.0.next_u64() >> 11) as f64;
        bits / 9_007_199_254_740_992.0
    }

    pub(crate) fn between(&mut self, low: f64, high: f64) -> f64 {
        low + (high - low) * self.share()
    }

    /// From 0 up to, but not, `count`.
    pub(crate) fn below(&mut self, count: u64) -> u64 {
        self.0.next_u64() % count.max(1)
    }
}

#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub(crate) struct Weather {
    /// Millimetres an hour.
    pub(crate) rain: f64,
    /// Metres a second; slows boats down, and is what the keepers are told.
    pub(crate) wind: f64,
}

impl Weather {
    pub(crate) fn at_start() -> Self {
        Self { rain: 0.5, wind: 2.0 }
    }

    pub(crate) fn change(&mut self, chance: &mut Chance) {
        self.rain = (self.rain + chance.between(-2.0, 2.0)).clamp(0.0, 12.0);
        self.wind = (self.wind + chance.between(-2.5, 2.5)).clamp(0.0, 16.0);
    }

    /// Rain fills the pounds; a weir takes what is above the nominal level by more than half a metre.
    pub(crate) fn fall(&self, pounds: &mut [Pound], dt: f64) {
        for (pound, nominal) in pounds.iter_mut().zip([2.0, 4.4, 6.8, 9.2]) {
            pound.level = (pound.level + self.rain / 1000.0 / 3600.0 * dt).min(nominal + 0.5);
        }
    }
}
