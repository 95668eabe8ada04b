//! The weather at the quay, and what electricity costs.

use super::{STEP_S, jitter};
use rand::SeedableRng;
use rand_pcg::Pcg64Mcg;

/// What electricity costs in each hour of the day, in EUR/kWh.
const PRICES: [f64; 24] = [
    0.142, 0.138, 0.136, 0.135, 0.139, 0.151, 0.188, 0.224, 0.231, 0.219, 0.204, 0.196, 0.189, 0.187, 0.192, 0.205, 0.228, 0.246,
    0.252, 0.238, 0.214, 0.189, 0.168, 0.151,
];

/// The weather, and the tariff.
#[derive(Clone, Debug)]
pub struct Weather {
    /// °C
    pub temperature: f64,
    /// Relative humidity, in %.
    pub humidity: f64,
    /// Air, in hPa.
    pub pressure: f64,
    /// m/s
    pub wind: f64,
    /// Where the wind comes from, in degrees from north.
    pub direction: f64,
    /// mm/h
    pub rain: f64,
    seconds: f64,
    noise: Pcg64Mcg,
}

impl Weather {
    pub(super) fn new(seed: u64) -> Weather {
        Weather {
            temperature: 6.5,
            humidity: 82.0,
            pressure: 1012.0,
            wind: 6.0,
            direction: 240.0,
            rain: 0.0,
            seconds: 0.0,
            noise: Pcg64Mcg::seed_from_u64(seed ^ 0x0a1f),
        }
    }

    /// EUR/kWh
    pub fn price(&self) -> f64 {
        PRICES[(self.seconds / 3600.0) as usize % PRICES.len()]
    }

    /// Lets one step pass.
    pub(super) fn step(&mut self) {
        self.seconds += STEP_S;
        let gust = jitter(&mut self.noise);
        let towards = |now: &mut f64, wanted: f64, seconds: f64| *now += (wanted - *now) * STEP_S / seconds;
        let day = (self.seconds / 13_750.0).sin();
        let front = (self.seconds / 5_200.0).sin();
        towards(&mut self.temperature, 6.5 + 5.0 * day + 0.4 * gust, 300.0);
        towards(&mut self.humidity, 82.0 - 10.0 * day + 6.0 * front, 400.0);
        towards(&mut self.pressure, 1012.0 - 9.0 * front, 900.0);
        towards(&mut self.wind, (6.0 + 5.0 * front + 9.0 * gust).max(0.0), 12.0);
        towards(&mut self.direction, 240.0 + 35.0 * front + 40.0 * gust, 30.0);
        let raining = if front > 0.6 { 4.0 * (front - 0.6) } else { 0.0 };
        towards(&mut self.rain, raining, 60.0);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_day_of_weather_stays_credible() {
        let mut weather = Weather::new(5);
        let (mut rained, mut prices) = (0, std::collections::BTreeSet::new());
        for _ in 0..864_000 {
            weather.step();
            rained += u32::from(weather.rain > 0.2);
            prices.insert((weather.price() * 1000.0) as i64);
            assert!((-5.0..20.0).contains(&weather.temperature) && (55.0..101.0).contains(&weather.humidity), "{weather:?}");
            assert!((0.0..30.0).contains(&weather.wind) && (0.0..360.0).contains(&weather.direction) && weather.rain >= 0.0);
        }
        assert!(rained > 1000 && prices.len() > 12);
    }
}
