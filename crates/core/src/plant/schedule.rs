//! Times that come again and again by the clock, written as a line of cron (POSIX.1-2017, crontab): minute, hour, day of the month, month,
//! day of the week. Reading and searching is done by the crate `croner`.

use super::week::local;
use crate::time::Nanos;
use croner::{
    Cron,
    parser::{CronParser, Seconds, Year},
};

/// The longest line, in bytes.
const LONGEST: usize = 100;

/// Times that come again and again.
#[derive(Clone, Debug)]
pub struct Schedule(Cron);

impl Schedule {
    /// Reads a line of cron.
    ///
    /// # Errors
    /// What is wrong with it, in a sentence.
    pub fn parse(line: &str) -> Result<Schedule, String> {
        if line.len() > LONGEST {
            return Err(format!("A line of cron has at most {LONGEST} characters."));
        }
        if line.split_whitespace().count() != 5 {
            return Err(
                "Write five parts: minute, hour, day of the month, month, day of the week; 0 6 * * MON is every Monday at 6:00."
                    .into(),
            );
        }
        let parser = CronParser::builder().seconds(Seconds::Disallowed).year(Year::Disallowed).build();
        parser.parse(line).map(Schedule).map_err(|error| format!("This is no line of cron: {error}."))
    }

    /// The first of its times after an instant, by the clocks of a zone; none where it never comes. A time that the clocks leave out comes
    /// when they go on; one that they show twice comes once.
    pub fn next(&self, after: Nanos, zone: &str) -> Option<Nanos> {
        let found = self.0.find_next_occurrence(&local(after, zone), false).ok()?;
        Nanos::try_from(found.timestamp().as_nanosecond()).ok().filter(|at| *at > after)
    }

    /// When it is, in words.
    pub fn words(&self) -> String {
        self.0.describe()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::time::{SECOND, from_text, to_local};
    use rstest::rstest;

    #[rstest]
    #[case::every_day("0 6 * * *", "2026-12-01T10:00:00Z", "2026-12-02 06:00:00 CET")]
    #[case::never_the_same_again("0 6 * * *", "2026-12-01T05:00:00Z", "2026-12-02 06:00:00 CET")]
    #[case::mondays("30 7 * * MON", "2026-12-01T10:00:00Z", "2026-12-07 07:30:00 CET")]
    #[case::the_last_of_a_month("0 0 L * *", "2027-02-01T10:00:00Z", "2027-02-28 00:00:00 CET")]
    // The clocks go from 2 to 3 on 29 March, and from 3 to 2 on 25 October.
    #[case::a_time_that_is_left_out("30 2 * * *", "2026-03-28T12:00:00Z", "2026-03-29 03:00:00 CEST")]
    #[case::then_as_ever("30 2 * * *", "2026-03-29T12:00:00Z", "2026-03-30 02:30:00 CEST")]
    #[case::a_time_that_comes_twice("30 2 * * *", "2026-10-24T12:00:00Z", "2026-10-25 02:30:00 CEST")]
    #[case::comes_once("30 2 * * *", "2026-10-25T00:30:00Z", "2026-10-26 02:30:00 CET")]
    fn by_the_clocks_of_a_zone(#[case] line: &str, #[case] after: &str, #[case] expected: &str) {
        let next = Schedule::parse(line).unwrap().next(from_text(after).unwrap(), "Europe/Oslo");
        assert_eq!(next.map(|at| to_local(at, "Europe/Oslo")).as_deref(), Some(expected));
    }

    #[rstest]
    #[case("0 6 * *")]
    #[case("0 6 * * * *")]
    #[case("60 6 * * *")]
    #[case("")]
    #[case("a b c d e")]
    fn what_is_no_line_of_cron_is_refused(#[case] line: &str) {
        assert!(Schedule::parse(line).is_err());
        assert!(Schedule::parse(&"1,".repeat(100)).is_err());
    }

    #[test]
    fn a_time_that_never_comes_is_not_searched_for_ever() {
        assert_eq!(Schedule::parse("0 0 30 2 *").unwrap().next(0, "UTC"), None);
        assert_eq!(Schedule::parse("* * * * *").unwrap().next(i64::MAX, "UTC"), None);
    }

    /// Against every minute of ten days around each change of the clocks: a line of plain numbers meets what the clocks show.
    #[rstest]
    #[case("2026-03-24T00:00:00Z")]
    #[case("2026-10-20T00:00:00Z")]
    fn it_meets_what_the_clocks_show(#[case] from: &str) {
        let from = from_text(from).unwrap();
        let (line, zone) = ("15,45 9-17/4 * * 1-5", "Europe/Oslo");
        let schedule = Schedule::parse(line).unwrap();
        let fits = |at: Nanos| {
            let now = local(at, zone);
            let weekday = now.weekday().to_monday_one_offset();
            matches!(now.minute(), 15 | 45) && matches!(now.hour(), 9 | 13 | 17) && weekday <= 5
        };
        let expected: Vec<Nanos> = (1..10 * 1440).map(|n| from + n * 60 * SECOND).filter(|at| fits(*at)).collect();
        let mut found = Vec::new();
        let mut at = from;
        while let Some(next) = schedule.next(at, zone).filter(|next| *next < from + 10 * 86_400 * SECOND) {
            found.push(next);
            at = next;
        }
        assert_eq!(found, expected);
    }
}
