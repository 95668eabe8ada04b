use super::*;
use havrel_core::{
    quality::Quality,
    sample::{Batch, Value},
};
use proptest::prelude::*;
use rstest::rstest;

const NODE: Uuid = Uuid::from_u128(7);

/// Beside the frames, so that it goes with the folder; what does not end in `.frames` of a number is no segment.
fn quarantine(folder: &Path) -> Quarantine {
    Quarantine::at(folder)
}

fn frame(seq: u64) -> Frame {
    let mut batch = Batch::default();
    batch.push(1, seq as i64 * 10, Quality::GOOD, 0, &Value::F64(1.0));
    let (events, states, gaps) = (Vec::new(), Vec::new(), Vec::new());
    Frame { batch, events, states, gaps, ..Frame::empty(NODE, 1, 0, seq, seq as i64) }
}

fn length() -> u64 {
    frame(1).encode().unwrap().len() as u64
}

/// Room for some frames, three in a segment.
fn room(frames: u64) -> Room {
    Room { disk: length() * frames, unwritten: 1 << 20, segment: length() * 3 }
}

fn open(folder: &Path, frames: u64, shipped: u64) -> (Spool, Replay) {
    Spool::open(folder, room(frames), NODE, shipped, &quarantine(folder)).unwrap()
}

fn numbers(spool: &Spool, most: usize) -> Vec<u64> {
    spool.oldest(most).unwrap().iter().map(|f| f.seq).collect()
}

fn files(folder: &Path) -> usize {
    segment::list(folder).unwrap().len()
}

#[test]
fn frames_leave_in_order_and_only_when_released() {
    let folder = tempfile::tempdir().unwrap();
    let (spool, replay) = open(folder.path(), 100, 0);
    assert_eq!(replay, Replay::default());
    (1..=5).for_each(|n| assert_eq!(spool.append(frame(n)), Appended::Whole));
    assert_eq!(numbers(&spool, 2), [1, 2]);
    spool.release(2);
    assert_eq!(numbers(&spool, 9), [3, 4, 5]);
    assert_eq!((spool.state().frames, spool.state().oldest), (3, 2));
    spool.release(5);
    assert_eq!((spool.state().frames, spool.state().bytes, spool.state().oldest), (0, 0, 0));
}

#[test]
fn a_new_program_finds_what_was_not_shipped_and_deletes_what_was() {
    let folder = tempfile::tempdir().unwrap();
    let (spool, _) = open(folder.path(), 100, 0);
    (1..=8).for_each(|n| assert_eq!(spool.append(frame(n)), Appended::Whole));
    spool.close();
    assert_eq!(files(folder.path()), 3);
    drop(spool);
    let (spool, replay) = open(folder.path(), 100, 4);
    assert_eq!((replay.frames, replay.last, replay.notes.len()), (4, Some((8, 8, 0)), 0));
    assert_eq!(files(folder.path()), 2, "the first segment was shipped whole");
    spool.append(frame(9));
    // From disk over the border of two segments, then from memory.
    let mut all = Vec::new();
    while let Some(&last) = numbers(&spool, 2).last() {
        all.extend(numbers(&spool, 2));
        spool.release(last);
    }
    assert_eq!(all, [5, 6, 7, 8, 9]);
    assert_eq!(spool.state().frames, 0);
}

#[test]
fn nobody_else_opens_it_meanwhile() {
    let folder = tempfile::tempdir().unwrap();
    let (spool, _) = open(folder.path(), 100, 0);
    let second = Spool::open(folder.path(), room(100), NODE, 0, &quarantine(folder.path())).err().unwrap();
    assert!(second.to_string().contains("another program uses the spool"), "{second}");
    // As a child holds it that is just being started while the spool closes.
    let copy = spool.writer.lock().unwrap().as_ref().unwrap().1.try_clone().unwrap();
    drop(spool);
    open(folder.path(), 100, 0);
    drop(copy);
}

#[test]
fn what_found_no_room_is_told_with_its_exact_span() {
    let folder = tempfile::tempdir().unwrap();
    // A segment is deleted when all of it is shipped, so there is room for three again afterwards.
    let (spool, _) = open(folder.path(), 5, 0);
    let outcomes: Vec<_> = (1..=7).map(|n| spool.append(frame(n))).collect();
    use Appended::*;
    assert_eq!(outcomes, [Whole, Whole, Whole, Whole, Whole, Lost, Lost]);
    assert_eq!(spool.state().lost, 2);
    spool.durable().borrow_and_update();
    while *spool.durable().borrow() < 5 {
        std::thread::yield_now();
    }
    spool.release(5);
    assert_eq!(spool.append(frame(8)), AfterLoss);
    let gaps = &spool.oldest(1).unwrap()[0].gaps;
    assert_eq!((gaps[0].from, gaps[0].to), (60, 70));
}

#[test]
fn a_disk_that_refuses_is_told_and_nothing_is_lost_while_memory_lasts() {
    let folder = tempfile::tempdir().unwrap();
    let (spool, _) = open(folder.path(), 100, 0);
    // A folder stands where the segment would be.
    fs::create_dir(segment::path(folder.path(), 1)).unwrap();
    spool.append(frame(1));
    while spool.state().trouble.is_empty() {
        std::thread::yield_now();
    }
    spool.append(frame(2));
    assert_eq!(numbers(&spool, 9), [1, 2]);
    fs::remove_dir(segment::path(folder.path(), 1)).unwrap();
    while *spool.durable().borrow() < 2 {
        std::thread::yield_now();
    }
    assert_eq!(spool.state().trouble, "");
    drop(spool);
    assert_eq!(open(folder.path(), 100, 0).1.frames, 2);
}

#[rstest]
#[case::middle_of_the_first(40, &[2, 3, 4], 1)]
#[case::length_of_the_second(length() as usize + 5, &[1, 3, 4], 1)]
#[case::last_segment(0, &[1, 2, 3], 0)]
fn flipped_bits_cost_one_frame_and_are_told(#[case] at: usize, #[case] left: &[u64], #[case] damages: usize) {
    let folder = tempfile::tempdir().unwrap();
    let (spool, _) = open(folder.path(), 100, 0);
    (1..=4).for_each(|n| assert_eq!(spool.append(frame(n)), Appended::Whole));
    drop(spool);
    let ids = segment::list(folder.path()).unwrap();
    let path = segment::path(folder.path(), ids[usize::from(damages == 0)]);
    let mut bytes = fs::read(&path).unwrap();
    bytes[at] ^= 4;
    fs::write(&path, bytes).unwrap();
    let (spool, replay) = open(folder.path(), 100, 0);
    assert_eq!(replay.notes.len(), 1, "{:?}", replay.notes);
    assert_eq!(replay.notes[0].contains("damaged"), damages == 1);
    // Between two frames that are there the time that is missing is known.
    let gap = replay.gaps.first().map(|g| (g.from, g.to));
    assert_eq!(gap, if left == [1, 3, 4] { Some((1, 3)) } else { None });
    assert_eq!(numbers(&spool, 9).first(), left.first());
    let mut all = Vec::new();
    while let Some(&last) = numbers(&spool, 9).last() {
        all.extend(numbers(&spool, 9));
        spool.release(last);
    }
    assert_eq!(all, left);
}

#[test]
fn what_is_damaged_while_it_waits_does_not_count_for_ever() {
    let folder = tempfile::tempdir().unwrap();
    let (spool, _) = open(folder.path(), 100, 0);
    (1..=4).for_each(|n| assert_eq!(spool.append(frame(n)), Appended::Whole));
    drop(spool);
    let (spool, _) = open(folder.path(), 100, 0);
    let last = segment::path(folder.path(), *segment::list(folder.path()).unwrap().last().unwrap());
    fs::write(&last, b"nothing of a frame").unwrap();
    let mut all = Vec::new();
    while let Some(&seq) = numbers(&spool, 9).last() {
        all.extend(numbers(&spool, 9));
        spool.release(seq);
    }
    assert_eq!((all, spool.state().frames), (vec![1, 2, 3], 0));
}

/// Says in the frame behind it from when to when something is missing, wherever the damage came.
#[rstest]
#[case::between_two_frames(length() as usize + 5, &[(3, 1, 3)])]
#[case::before_the_first(5, &[(2, 1, 2)])]
fn what_is_damaged_while_it_waits_is_marked(#[case] at: usize, #[case] wanted: &[(u64, Nanos, Nanos)]) {
    let folder = tempfile::tempdir().unwrap();
    let (spool, _) = open(folder.path(), 100, 0);
    (1..=4).for_each(|n| assert_eq!(spool.append(frame(n)), Appended::Whole));
    drop(spool);
    let (spool, _) = open(folder.path(), 100, 0);
    let first = segment::path(folder.path(), segment::list(folder.path()).unwrap()[0]);
    let mut bytes = fs::read(&first).unwrap();
    bytes[at] ^= 4;
    fs::write(&first, bytes).unwrap();
    let mut gaps = Vec::new();
    loop {
        let frames = spool.oldest(9).unwrap();
        let Some(last) = frames.last().map(|f| f.seq) else { break };
        gaps.extend(frames.iter().flat_map(|f| f.gaps.iter().map(|g| (f.seq, g.from, g.to))));
        spool.release(last);
    }
    assert_eq!(gaps, wanted);
}

/// A spool on a disk that ran full, with how many frames wait in it. For a process of its own, in which no file may grow beyond
/// what the shell has set.
fn filled() -> (Spool, std::path::PathBuf, u64) {
    let folder = std::path::PathBuf::from(std::env::var("HAVREL_FULL_DISK").unwrap());
    let large = Room { disk: 1 << 30, unwritten: 1 << 20, segment: 1 << 30 };
    let (spool, _) = Spool::open(&folder, large, NODE, 0, &quarantine(&folder)).unwrap();
    // The first fit, all together do not.
    let all = 20_480 / length() * 2;
    (1..=20).for_each(|n| assert_eq!(spool.append(frame(n)), Appended::Whole));
    while *spool.durable().borrow() < 20 {
        std::thread::yield_now();
    }
    (21..=all).for_each(|n| assert_eq!(spool.append(frame(n)), Appended::Whole));
    while spool.state().trouble.is_empty() {
        std::thread::yield_now();
    }
    (spool, folder, all)
}

/// Runs one of these tests with a disk that runs full.
fn on_a_small_disk(test: &str, folder: &Path) {
    // Blocks of 512 bytes; a write beyond them fails in its middle, as on a full disk.
    let script = format!("trap '' XFSZ; ulimit -f 40; exec \"$0\" --ignored --exact spool::tests::{test}");
    let inside = std::process::Command::new("sh")
        .args(["-c", &script])
        .arg(std::env::current_exe().unwrap())
        .env("HAVREL_FULL_DISK", folder)
        .output()
        .unwrap();
    assert!(inside.status.success(), "{}", String::from_utf8_lossy(&inside.stdout));
}

#[test]
#[ignore = "run by the test below"]
fn inside_a_full_disk() {
    let (spool, folder, all) = filled();
    // What the disk did not take waits in memory, and is not acknowledged.
    assert_eq!(numbers(&spool, usize::MAX).len() as u64, all);
    let durable = *spool.durable().borrow();
    assert!(durable < all);
    fs::write(folder.join("durable"), durable.to_string()).unwrap_or_default();
    std::process::exit(0);
}

#[test]
fn a_disk_without_room_keeps_what_it_acknowledged() {
    let folder = tempfile::tempdir().unwrap();
    on_a_small_disk("inside_a_full_disk", folder.path());
    let durable: u64 = fs::read_to_string(folder.path().join("durable")).unwrap().parse().unwrap();
    let (spool, replay) = open(folder.path(), 1_000_000, 0);
    let kept = numbers(&spool, usize::MAX);
    assert!(durable >= 20 && kept.len() as u64 >= durable, "{durable} acknowledged, {} kept", kept.len());
    assert_eq!(kept, (1..=kept.len() as u64).collect::<Vec<_>>());
    assert!(replay.notes.iter().all(|n| n.contains("torn")), "{:?}", replay.notes);
}

#[test]
#[ignore = "run by the test below"]
fn inside_a_full_disk_that_is_shipped() {
    let (spool, folder, all) = filled();
    spool.release(all - 5);
    while *spool.durable().borrow() < all {
        std::thread::yield_now();
    }
    assert_eq!((spool.state().trouble, spool.state().frames), (String::new(), 5));
    assert_eq!(numbers(&spool, usize::MAX), (all - 4..=all).collect::<Vec<_>>());
    spool.release(all - 2);
    assert_eq!(spool.append(frame(all + 1)), Appended::Whole);
    assert_eq!(numbers(&spool, usize::MAX), [all - 1, all, all + 1]);
    fs::write(folder.join("all"), all.to_string()).unwrap();
    drop(spool);
    // Not by a return: the harness would write its report into files that may be full as well.
    std::process::exit(0);
}

#[test]
fn a_full_disk_is_given_back_once_all_on_it_is_shipped() {
    let folder = tempfile::tempdir().unwrap();
    on_a_small_disk("inside_a_full_disk_that_is_shipped", folder.path());
    let all: u64 = fs::read_to_string(folder.path().join("all")).unwrap().parse().unwrap();
    assert_eq!(files(folder.path()), 1);
    let (spool, replay) = open(folder.path(), 1_000_000, all - 2);
    assert_eq!(numbers(&spool, usize::MAX), [all - 1, all, all + 1]);
    assert!(replay.notes.is_empty(), "{:?}", replay.notes);
}

#[test]
fn frames_of_another_node_are_set_aside() {
    let folder = tempfile::tempdir().unwrap();
    open(folder.path(), 100, 0).0.append(frame(1));
    let (spool, replay) = Spool::open(folder.path(), room(100), Uuid::from_u128(8), 0, &quarantine(folder.path())).unwrap();
    assert!(replay.frames == 0 && replay.notes[0].contains("another node"), "{replay:?}");
    assert_eq!(numbers(&spool, 9), [0u64; 0]);
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(24))]

    /// Whatever is appended, shipped and killed in whatever order, and wherever the last write was torn: frames come out
    /// once each, in order, and all that was synced.
    #[test]
    fn nothing_synced_is_lost(steps in prop::collection::vec((1u64..9, 0u64..9, any::<bool>(), 0u64..400), 1..8)) {
        let folder = tempfile::tempdir().unwrap();
        let (mut shipped, mut next, mut out) = (0, 1, Vec::new());
        for (appended, taken, torn, tear) in steps {
            let (spool, replay) = open(folder.path(), 1000, shipped);
            prop_assert_eq!(replay.frames as u64, next - 1 - shipped);
            for _ in 0..appended {
                spool.append(frame(next));
                next += 1;
            }
            for _ in 0..taken {
                if let Some(&seq) = numbers(&spool, 1).first() {
                    out.push(seq);
                    spool.release(seq);
                    shipped = seq;
                }
            }
            drop(spool);
            if torn && let Some(&id) = segment::list(folder.path()).unwrap().last() {
                let path = segment::path(folder.path(), id);
                let mut bytes = fs::read(&path).unwrap();
                bytes.extend(&frame(999).encode().unwrap()[..(tear % (length() - 1)) as usize]);
                fs::write(&path, bytes).unwrap();
            }
        }
        prop_assert_eq!(&out, &(1..=shipped).collect::<Vec<_>>());
        let (spool, _) = open(folder.path(), 1000, shipped);
        let mut rest = Vec::new();
        while let Some(&seq) = numbers(&spool, 3).first() {
            rest.push(seq);
            spool.release(seq);
        }
        prop_assert_eq!(rest, (shipped + 1..next).collect::<Vec<_>>());
    }
}

#[test]
fn a_frame_that_no_reader_would_take_is_lost_with_its_span_and_holds_up_nothing() {
    let folder = tempfile::tempdir().unwrap();
    let (spool, _) = Spool::open(folder.path(), Room::default(), NODE, 0, &quarantine(folder.path())).unwrap();
    let mut large = frame(1);
    large.batch.push(7, 44, Quality::GOOD, 0, &Value::Text("x".repeat(17 << 20)));
    assert_eq!(spool.append(large), Appended::Lost);
    assert_eq!(spool.append(frame(2)), Appended::AfterLoss);
    let read = spool.oldest(100).unwrap();
    assert_eq!(read.iter().map(|f| f.seq).collect::<Vec<_>>(), [2]);
    assert_eq!(read[0].gaps[0].to, 44);
    assert!(spool.state().lost > 0);
}

#[test]
fn damaged_bytes_lie_in_quarantine_and_are_told() {
    let folder = tempfile::tempdir().unwrap();
    {
        let (spool, _) = open(folder.path(), 100, 0);
        (1..=3).for_each(|n| assert_eq!(spool.append(frame(n)), Appended::Whole));
        spool.close();
    }
    let path = segment::path(folder.path(), segment::list(folder.path()).unwrap()[0]);
    let mut bytes = std::fs::read(&path).unwrap();
    let middle = length() as usize + 30;
    bytes[middle] ^= 0xff;
    std::fs::write(&path, &bytes).unwrap();
    let (_, replay) = open(folder.path(), 100, 0);
    assert_eq!((replay.frames, replay.notes.len(), replay.gaps.len()), (2, 1, 1));
    let kept = std::fs::read(folder.path().join("quarantine/damaged.bytes")).unwrap();
    assert_eq!(kept.len() as u64, length());
}
