//! A ledger that has been kept for years.

use std::path::Path;

use rusqlite::Connection;

/// The ledger of a service, beside it.
pub fn ledger(home: &Path) -> Connection {
    Connection::open(home.join("state/ledger.db")).expect("the ledger")
}

/// Adds filed entries, as an earlier time has left them, up to this many.
pub fn fill(home: &Path, count: i64) {
    const PIECE: i64 = 200_000;
    let ledger = ledger(home);
    let have: i64 = ledger
        .query_row("SELECT COALESCE(MAX(id), 0) FROM entry", [], |row| row.get(0))
        .expect("the ledger");
    let base = home.display().to_string();
    let now = 1_790_000_000_000i64;
    // Two years of arrivals, ending now.
    let step = 730 * 86_400_000 / count.max(1);
    ledger.pragma_update(None, "synchronous", "OFF").expect("a setting");
    ledger.pragma_update(None, "cache_size", -400_000).expect("a setting");
    // So many sums in no order would each touch a page of its own: they are sorted at the end.
    let index: String = ledger
        .query_row("SELECT sql FROM sqlite_schema WHERE name = 'entry_identity'", [], |row| {
            row.get(0)
        })
        .expect("the index");
    ledger
        .execute_batch("PRAGMA journal_mode = OFF; DROP INDEX entry_identity")
        .expect("the index goes");
    let mut from = have + 1;
    while from <= count {
        let to = (from + PIECE - 1).min(count);
        let series = |from: i64, to: i64| {
            format!(
                "WITH RECURSIVE n(value) AS (SELECT {from} UNION ALL SELECT value + 1 FROM n WHERE value < {to})
                 SELECT value FROM n"
            )
        };
        let (series_entries, series_history) = (series(from, to), series(from * 2, to * 2 + 1));
        ledger
            .execute_batch(&format!(
                "BEGIN;
                 INSERT INTO entry (id, gate, drop_folder, path, bytes, modified_ns, inode, sha256, state,
                   fields, seen_at, ready_at, worked_at, filed_at, target, in_drop, space, identity)
                 SELECT n, 'buoy', '{base}/drops', printf('old_%08d.dat', n), 4096, n * 1000, n, sum, 'filed',
                   '{{\"station\":\"ullin-bay\"}}', at, at, at, at,
                   printf('{base}/archive/old_%08d.dat', n), 0, 'buoy', sum
                 FROM (SELECT value AS n, {now} - ({count} - value) * {step} AS at, randomblob(32) AS sum
                       FROM ({series_entries}));
                 INSERT INTO history (entry, gate, at, state, cause, words)
                 SELECT value / 2, 'buoy', {now}, CASE value % 2 WHEN 0 THEN 'ready' ELSE 'filed' END, 'pass',
                   CASE value % 2 WHEN 0 THEN 'settled' ELSE 'moved to the archive' END
                 FROM ({series_history});
                 INSERT INTO span (slot, first, last)
                 SELECT ready_at / 300000, MIN(id), MAX(id) FROM entry WHERE id BETWEEN {from} AND {to} GROUP BY 1
                 ON CONFLICT DO UPDATE SET first = MIN(first, excluded.first), last = MAX(last, excluded.last);
                 COMMIT;"
            ))
            .expect("the entries");
        from = to + 1;
    }
    ledger.execute_batch(&format!("{index}; PRAGMA journal_mode = WAL")).expect("the index");
    ledger
        .execute_batch(&format!(
            "INSERT OR IGNORE INTO space VALUES ('buoy');
             INSERT INTO tally VALUES ('buoy', 'filed', {count})
             ON CONFLICT DO UPDATE SET count = {count};
             PRAGMA wal_checkpoint(TRUNCATE);"
        ))
        .expect("the tallies");
}
