//! What is picked, held against what the words of the configuration say.

use std::time::Duration;

use proptest::prelude::*;
use proptest::sample::select;

use super::*;
use crate::arrivals::settle::Look;
use crate::config::pick::Others;
use crate::files::version::Version;
use crate::pattern::Fields;

fn candidate(number: usize, modified_ns: i64) -> Candidate {
    let version = Version { bytes: 1, modified_ns, inode: number as u64, changed_ns: 0 };
    Candidate {
        path: format!("{number:03}.csv"),
        version,
        look: Look { first_seen: Duration::ZERO, changed_ns: 0 },
        seen_at: 0,
        fields: Fields::new(),
        given_up: None,
        passed_over: None,
        mark: None,
    }
}

proptest! {
    #[test]
    fn so_many_are_picked_and_none_of_the_others_would_have_been_better(
        times in prop::collection::vec(0..20_i64, 0..30),
        count in 1..6_usize,
        newest in any::<bool>(),
        others in select(&[Others::File, Others::Leave][..]),
    ) {
        let pick = Pick { newest, count, per: None, others };
        let files: Vec<Candidate> =
            times.iter().enumerate().map(|(number, time)| candidate(number, *time)).collect();
        let (mut picked, mut over) = (Vec::new(), Vec::new());
        pick_part(&pick, "part".into(), files.clone(), &mut picked, &mut over);
        prop_assert_eq!(picked.len(), count.min(files.len()));
        prop_assert_eq!(picked.len() + over.len(), files.len());
        let of = |one: &Candidate| if newest { one.version.modified_ns } else { -one.version.modified_ns };
        let worst = picked.iter().map(of).min();
        for one in &over {
            prop_assert!(worst.is_some_and(|worst| of(&one.candidate) <= worst), "{one:?}", one = one.candidate.path);
            // Of the same time the one that comes first in the gate's order is picked.
            let before = picked.iter().filter(|other| of(other) == of(&one.candidate));
            prop_assert!(before.into_iter().all(|other| other.path < one.candidate.path));
            prop_assert_eq!(one.for_sake_of.len(), picked.len());
            let words = one.candidate.passed_over.as_deref().unwrap_or_default();
            prop_assert!(words.starts_with("passed over: `"), "{}", words);
            prop_assert!(words.ends_with(if newest { "newer" } else { "older" }), "{}", words);
        }
        // What is remembered is the oldest that was picked: what is older came too late.
        let oldest = picked.iter().map(|one| one.version.modified_ns).min();
        for one in &picked {
            prop_assert_eq!(one.mark.as_ref().map(|mark| mark.modified_ns), oldest);
            prop_assert!(one.passed_over.is_none());
        }
    }

    #[test]
    fn only_what_is_older_than_all_that_were_picked_comes_too_late(
        mark in 0..20_i64,
        time in 0..20_i64,
        newest in any::<bool>(),
    ) {
        let pick = Pick { newest, count: 1, per: None, others: Others::File };
        let marks = HashMap::from([("here".to_owned(), mark)]);
        let late = too_old(&pick, &marks, "here", &candidate(1, time)).is_some();
        prop_assert_eq!(late, newest && time < mark);
        prop_assert!(too_old(&pick, &marks, "elsewhere", &candidate(1, time)).is_none());
    }
}
