// Made by `npm run types` from docs/openapi.json; changes here are lost.

export interface components {
  schemas: {
    /** @description What a whole merge wrote. */
    Account: {
      /** @description Columns of the output, in order. */
      columns: components["schemas"]["AccountColumn"][];
      /**
       * Format: int64
       * @description Rows left out.
       */
      left_out: number;
      /**
       * Format: int64
       * @description Rows read from all sources.
       */
      rows_in: number;
      /**
       * Format: int64
       * @description Rows written.
       */
      rows_out: number;
      /**
       * Format: int64
       * @description Rows set aside.
       */
      set_aside: number;
      /** @description The sources, in the order in which they were read. */
      sources: components["schemas"]["Tally"][];
      /** @description Columns that were united under the name of another. */
      united: components["schemas"]["United"][];
    };
    /** @description A column of the output. */
    AccountColumn: {
      /** @description Its name. */
      name: string;
      /** @description The total of its values, where that was asked for. */
      total?: string | null;
      /** @description Its type, where it has one. */
      type?: string | null;
    };
    /** @description What happened at a gate in one piece of time. */
    Activity: {
      /**
       * Format: date-time
       * @description When the piece began.
       */
      begins: string;
      /**
       * Format: int64
       * @description Files entered.
       */
      entered: number;
      /**
       * Format: int64
       * @description Entries filed.
       */
      filed: number;
      /** @description The gate. */
      gate: string;
      /**
       * Format: int64
       * @description Entries held.
       */
      held: number;
      /**
       * Format: int32
       * @description Its length in minutes.
       */
      minutes: number;
      /**
       * Format: int64
       * @description Repeats.
       */
      repeats: number;
    };
    /** @description What happened at all gates in a span of time, which is divided into pieces. */
    ActivitySpan: {
      /** @description Where something happened, by gate, oldest first; of all others nothing is said. */
      activity: components["schemas"]["Activity"][];
      /**
       * Format: date-time
       * @description When the first piece began.
       */
      begins: string;
      /**
       * Format: int32
       * @description The length of a piece in minutes.
       */
      minutes: number;
      /**
       * Format: int32
       * @description How many pieces there are, the last of which is not over yet.
       */
      pieces: number;
    };
    /** @description A rule that is said for once. */
    AdHocClear: {
      /** @description Whether folders are removed that are empty. */
      empty_folders: boolean;
      /** @description The folder, absolute. */
      folder: string;
      /** @description A folder into which files are moved instead. */
      into: string | null;
      /**
       * Format: int32
       * @description So many of the newest stay.
       */
      keep_newest: number | null;
      /** @description Files of these that stay. */
      leave: string[];
      /** @description Files that it is about: patterns. */
      matches: string[];
      /** @description Only files that were not modified for so long, such as "7d". */
      older: string | null;
      /** @description Whether folders below are looked into. */
      subfolders: boolean;
    };
    /** @description Which files are to be adopted, by whom and why. */
    AdoptOrder: components["schemas"]["OrderBy"] & {
      /** @description Only files that fit this pattern. */
      pattern?: string | null;
      /** @description Only tell what would be adopted. */
      rehearse?: boolean;
    };
    /** @description What was adopted. */
    Adoption: {
      /** @description Files that are entries now, by path; in a rehearsal those that would be. */
      adopted: string[];
      /** @description Files that are not, and why. */
      left: components["schemas"]["LeftFile"][];
    };
    /** @description What else would be made of a file. */
    AlsoMade: {
      /** @description How it would meet what is there. */
      mode: components["schemas"]["OutputMode"];
      /** @description The output. */
      output: string;
    };
    /** @description The answer for one path. */
    Answer: {
      entry?: components["schemas"]["Entry"] | null;
      file?: components["schemas"]["FileView"] | null;
      /** @description The gate it belongs to. */
      gate?: string | null;
      /** @description The path, made absolute. */
      path: string;
      /** @description What became of it, in a sentence. */
      sentence: string;
    };
    /** @description A line of the audit log. */
    AuditLine: {
      /** @description To what. */
      about: string;
      /** @description Where they were. */
      address: string;
      /**
       * Format: date-time
       * @description When.
       */
      at: string;
      /**
       * Format: int64
       * @description Its number; they are without a gap.
       */
      id: number;
      /**
       * Format: int32
       * @description What it came to, as the HTTP status that was answered.
       */
      status: number;
      /** @description SHA-256 over this line and the sum of the one before. */
      sum: string;
      /** @description What they did. */
      what: string;
      /** @description Who. */
      who: string;
      /** @description Why, as they said. */
      why: string;
    };
    /** @description What verifying the log came to. */
    AuditProof: {
      /** @description What is wrong, in words; empty when nothing is. */
      faults: string[];
      /**
       * Format: int64
       * @description Number of the first line that is kept.
       */
      first: number | null;
      /** @description Whether the sum that was asked for stands in the chain; none when none was. */
      known: boolean | null;
      /**
       * Format: int64
       * @description Number of the last one.
       */
      last: number | null;
      /**
       * Format: int64
       * @description Lines that were looked at.
       */
      lines: number;
      /**
       * @description The sum of the last one: who writes it down elsewhere can tell later that nothing up
       *     to there was changed.
       */
      sum: string | null;
    };
    BTreeMap: {
      [key: string]: string;
    };
    /** @description One bar of a distribution. */
    Bar: {
      /**
       * Format: int64
       * @description Rows.
       */
      count: number;
      /** @description The value, or the first of the step. */
      of: string;
    };
    /** @description The entries that were worked together. */
    Batch: {
      /**
       * Format: int32
       * @description Which attempt this was for its entries.
       */
      attempt: number;
      /**
       * Format: date-time
       * @description When it was claimed.
       */
      begun_at: string;
      /**
       * Format: date-time
       * @description When it ended.
       */
      ended_at: string | null;
      /**
       * Format: int64
       * @description How many entries are in it.
       */
      entries: number;
      /** @description Its number. */
      id: components["schemas"]["BatchId"];
      outcome: components["schemas"]["BatchOutcome"] | null;
      /** @description What it made of the entry that is asked about; at most 1,000. */
      outputs: components["schemas"]["Output"][];
      /**
       * Format: int64
       * @description How many these are.
       */
      outputs_count: number;
      /** @description What the program printed. */
      words: string;
      /** @description The gate's work. */
      work: components["schemas"]["WorkKind"];
    };
    /**
     * Format: int64
     * @description The number of a batch; of a lease its fencing number. They only grow.
     */
    BatchId: number;
    /** @enum {string} */
    BatchOutcome: "worked" | "again" | "held" | "abandoned";
    /** @description What needs a person, and what the night did. */
    Board: {
      /**
       * Format: date-time
       * @description When it was looked at.
       */
      at: string;
      /** @description Limits that are broken. */
      breaches: components["schemas"]["Happening"][];
      /** @description What happened in the last day, by gate. */
      day: components["schemas"]["GateDay"][];
      /** @description What is due soon. */
      due_soon: components["schemas"]["DueCell"][];
      /**
       * Format: int64
       * @description So many are excused.
       */
      excused: number;
      /**
       * Format: int64
       * @description So many are not over yet.
       */
      expected: number;
      /** @description Held entries, by gate and reason, most first. */
      held: components["schemas"]["HeldGroup"][];
      /**
       * Format: int64
       * @description So many expectations are here, those that came late too.
       */
      here: number;
      /** @description What is late or missing: the first of it. */
      late: components["schemas"]["DueCell"][];
      /**
       * Format: int64
       * @description So many expectations are late or missing.
       */
      late_count: number;
      /** @description Whether something of it needs a person. */
      needs_a_person: boolean;
      /** @description Gates that a person has paused. */
      paused: components["schemas"]["PausedGate"][];
      /** @description Tells whose messages do not arrive. */
      silent: components["schemas"]["TellView"][];
      /** @description Gates that cannot work as they should. */
      troubled: components["schemas"]["TroubledGate"][];
      /** @description Files that no pattern takes. */
      untaken: components["schemas"]["UntakenFiles"][];
      /** @description Files of the last day that are far from what their gates are used to. */
      unusual: components["schemas"]["Happening"][];
    };
    /**
     * @description Who or what caused a change.
     * @enum {string}
     */
    Cause: "pass" | "recovery" | "person";
    /** @description One change of an entry's state. */
    Change: {
      /**
       * Format: date-time
       * @description When.
       */
      at: string;
      /** @description The person who caused it. */
      by: string | null;
      /** @description What caused it. */
      cause: components["schemas"]["Cause"];
      /** @description The entry. */
      entry: components["schemas"]["EntryId"];
      /** @description Its gate. */
      gate: string;
      /** @description Number of the change; they only grow. */
      id: components["schemas"]["ChangeId"];
      /** @description Path of the entry below its drop folder. */
      path: string;
      /** @description The state it came to. */
      state: components["schemas"]["State"];
      /** @description What happened, in words. */
      words: string;
    };
    /**
     * Format: int64
     * @description The number of a change of an entry. They grow in the order in which it happened.
     */
    ChangeId: number;
    /** @description Which files are to be cleared, by whom and why. */
    ClearOrder: components["schemas"]["OrderBy"] & {
      /**
       * Format: int64
       * @description The most files that may go; 10,000 when nothing else is said.
       */
      most: number | null;
      /** @description By this rule of the configuration. */
      name: string | null;
      /** @description Only tell what would go. */
      rehearse: boolean;
      rule: components["schemas"]["AdHocClear"] | null;
    };
    /** @description A rule by which files are cleared. */
    ClearView: {
      /** @description Folders in which is looked. */
      folders: string[];
      /** @description Where files are moved instead. */
      into: string | null;
      /**
       * Format: int64
       * @description So many of the newest stay …
       */
      keep_newest: number | null;
      /** @description … of each value of this. */
      keep_per: string | null;
      /**
       * Format: date-time
       * @description When it ran last, or was seen first.
       */
      last_at: string | null;
      /** @description Patterns of files of these that stay. */
      leave: string[];
      /** @description Patterns of files that go. */
      match: string[];
      /**
       * Format: int64
       * @description More than so many are not removed in one run.
       */
      most: number;
      /** @description Its name. */
      name: string;
      /**
       * Format: date-time
       * @description When it will run by itself.
       */
      next_at: string | null;
      /** @description Only files that were not modified for so long, in words. */
      older: string | null;
      /** @description When it runs by itself, in words; none when only people run it. */
      runs: string | null;
    };
    /** @description What a clear did, or would do. */
    Cleared: {
      /** @description Folders that were removed because they were empty. */
      folders: string[];
      /** @description What could not be done, or not be looked at. */
      problems: string[];
      /** @description Files that went, or would go. */
      removed: components["schemas"]["ClearedFile"][];
      /** @description The rule. */
      rule: string;
      /** @description Files that fit and stay, and why. */
      stays: components["schemas"]["StayingFile"][];
    };
    /** @description A file that went, or would go. */
    ClearedFile: {
      /**
       * Format: int64
       * @description Its size in bytes.
       */
      bytes: number;
      /**
       * Format: date-time
       * @description When it was modified last.
       */
      modified: string;
      /** @description Where it was moved instead. */
      moved_to: string | null;
      /** @description What it was. */
      path: string;
    };
    /** @description Why a gate takes nothing now, and when it does again. */
    Closed: {
      /** @description Why. */
      because: string;
      /** @description When it takes files again, in the service's zone; in words. */
      opens: string;
      /**
       * Format: date-time
       * @description When that is; none where it does not in the next year.
       */
      opens_at: string | null;
    };
    /**
     * @description How a single file is compressed.
     * @enum {string}
     */
    Compression: "gzip" | "zstd" | "zip";
    /** @description A change of a file of the configuration. */
    ConfigChange: {
      /**
       * Format: date-time
       * @description When it was saved, or found.
       */
      at: string;
      /** @description The file. */
      file: string;
      /** @description Its number. */
      id: components["schemas"]["ConfigChangeId"];
      /** @description What stood in it from then on; none in a list. */
      text: string | null;
      /** @description Who has saved it; empty where it was changed outside, and found. */
      who: string;
      /** @description Why. */
      why: string;
    };
    /**
     * Format: int64
     * @description The number of a change of a file of the configuration.
     */
    ConfigChangeId: number;
    /** @description A fault of an edited configuration. */
    ConfigFault: {
      /** @description Column in characters, from 1. */
      column: number;
      /** @description The file in which it is. */
      file: string;
      /** @description Line, from 1. */
      line: number;
      /** @description What is wrong, and what was expected. */
      message: string;
    };
    /** @description A file of the configuration. */
    ConfigFile: {
      /** @description Its path. */
      path: string;
      /** @description The sum of that. */
      sha256: string;
      /** @description What stands in it. */
      text: string;
    };
    /** @description A key of the configuration. */
    ConfigKey: {
      /** @description What holds without it; none where the reference does not say. */
      default: string | null;
      /** @description Its name. */
      key: string;
      /** @description What it means. */
      meaning: string;
      /** @description The part of the reference in which it is explained, such as `[gate.NAME]`. */
      section: string;
    };
    /** @description A file of the configuration that is to be saved, by whom and why. */
    ConfigOrder: components["schemas"]["EditedFile"] &
      components["schemas"]["OrderBy"] & {
        /** @description The sum of what it was edited from; none for a new file. */
        was: string | null;
      };
    /** @description How many entries there are of one kind. */
    Count: {
      /**
       * Format: int64
       * @description Their bytes; not told where entries are only counted.
       */
      bytes?: number | null;
      /** @description The day, when counted by day. */
      day?: string | null;
      /**
       * Format: int64
       * @description How many.
       */
      entries: number;
      /** @description Values of fields, when counted by fields; empty where an entry has none. */
      fields?: {
        [key: string]: string;
      };
      /** @description The gate, when counted by gate. */
      gate?: string | null;
      /** @description The state, when counted by state. */
      state?: string | null;
    };
    /** @description What was done to entries, or would be. */
    Done: {
      /** @description Entries to which it was done. */
      done: components["schemas"]["EntryId"][];
      /** @description What entries made when they were last worked: it is there still. */
      made: components["schemas"]["PriorWork"][];
      /** @description Entries to which it was not, and why. */
      refused: components["schemas"]["Refused"][];
    };
    /** @description A column. */
    DraftColumn: {
      /** @description Its name. */
      name: string;
      /** @description Its type. */
      type: string;
    };
    /** @description How the tables of a new gate's files are read, and which columns they have. */
    DraftTable: {
      /** @description The columns that are wanted. */
      columns: components["schemas"]["DraftColumn"][];
      /** @description What parts the fields; found out for each file when it is not said. */
      delimiter: string | null;
      /** @description Encoding of text; UTF-8 when it is not said. */
      encoding: string | null;
      /** @description Lines before the names of the columns. */
      preamble: number;
      /** @description The sheet of a workbook. */
      sheet: string | null;
    };
    /** @description What a new gate does with its files. */
    DraftWork:
      | {
          /** @enum {string} */
          kind: "file";
        }
      | {
          /** @description The file of that table. */
          into: string;
          /** @enum {string} */
          kind: "merge";
          /** @description How the files are read. */
          table: components["schemas"]["DraftTable"];
        }
      | {
          /** @description Its table. */
          into: string;
          /** @enum {string} */
          kind: "load";
          /** @description How the files are read. */
          table: components["schemas"]["DraftTable"];
          /** @description The database. */
          to: string;
        };
    /** @description One expectation: of a day, and of a value where there is one for each. */
    DueCell: {
      /**
       * Format: date-time
       * @description When all of it was here.
       */
      arrived_at: string | null;
      /**
       * Format: date-time
       * @description By when it is expected.
       */
      by: string;
      /**
       * Format: int64
       * @description Bytes of these.
       */
      bytes: number;
      /**
       * Format: date
       * @description The day.
       */
      day: string;
      /** @description The rule. */
      due: string;
      /** @description The first entries of these. */
      entries: components["schemas"]["EntryId"][];
      excused: components["schemas"]["Excuse"] | null;
      /**
       * Format: int64
       * @description So many files are here.
       */
      files: number;
      /**
       * Format: int64
       * @description So many are expected, at least.
       */
      files_expected: number;
      /** @description Its gate. */
      gate: string;
      /**
       * Format: date-time
       * @description From when on it is missing.
       */
      give_up: string | null;
      /**
       * Format: int64
       * @description Rows of these.
       */
      rows: number;
      /** @description In which state it is. */
      state: components["schemas"]["DueState"];
      /** @description The value of which it is; none where there is one expectation for the gate. */
      value: string | null;
      /** @description What that means, in words. */
      words: string;
    };
    /** @description How many expectations are in a state. */
    DueCount: {
      /**
       * Format: int64
       * @description So many.
       */
      count: number;
      /** @description The state. */
      state: components["schemas"]["DueState"];
    };
    /**
     * @description In which state an expectation is.
     * @enum {string}
     */
    DueState: "missing" | "late" | "due-soon" | "expected" | "here-late" | "excused" | "here";
    /** @description A rule of what is expected, and how it stands today. */
    DueView: {
      /** @description The field of each value of which something is expected. */
      each: string | null;
      /** @description Its gate. */
      gate: string;
      /** @description Its name. */
      name: string;
      /**
       * @description Its expectations of today, and of days before that are still open, by state; those first
       *     that need a person.
       */
      today: components["schemas"]["DueCount"][];
      /** @description What it expects, in words. */
      words: string;
    };
    /** @description A file of the configuration as it is to be. */
    EditedFile: {
      /** @description Its path: that of a file of the configuration, or a new one in `gates.d` beside it. */
      path: string;
      /** @description What is to stand in it. */
      text: string;
    };
    /** @description How a worker ended with an entry. */
    EndOrder: {
      /** @description How. */
      end: components["schemas"]["WorkerEnd"];
      /** @description What its program printed; at most 64 KiB are kept. */
      printed?: string;
      /** @description Why it is to be tried again, or failed. */
      reason?: string | null;
    };
    /** @description One settled version of a file. */
    Entry: {
      batch: components["schemas"]["BatchId"] | null;
      /**
       * Format: int64
       * @description Size in bytes.
       */
      bytes: number;
      /** @description SHA-256 of what is compressed, when that is another than was entered. */
      content_sha256: string | null;
      /** @description The drop folder. */
      drop: string;
      /** @description Fields captured from its path. */
      fields: components["schemas"]["BTreeMap"];
      /**
       * Format: date-time
       * @description When it was filed.
       */
      filed_at: string | null;
      /**
       * Format: int64
       * @description Size of its file now, when that is another than was entered: the program that
       *     worked it has changed it.
       */
      filed_bytes: number | null;
      /** @description SHA-256 of its file now, when that is another than was entered. */
      filed_sha256: string | null;
      /** @description Where it lies now, once it has been moved. */
      filed_to: string | null;
      /** @description Whether a person has said that its identity counts no more. */
      forgotten: boolean;
      /** @description Its gate. */
      gate: string;
      /** @description Its number in the ledger. */
      id: components["schemas"]["EntryId"];
      /**
       * Format: date-time
       * @description Modification time of the file.
       */
      modified: string;
      /** @description Name of the file. */
      name: string;
      packing: components["schemas"]["Compression"] | null;
      /** @description Path below the drop folder. */
      path: string;
      /**
       * Format: date-time
       * @description When it had settled and was entered.
       */
      ready_at: string;
      /** @description Why it is held, gone, or tried again. */
      reason: string | null;
      repeat_of: components["schemas"]["EntryId"] | null;
      revision_of: components["schemas"]["EntryId"] | null;
      /**
       * Format: int64
       * @description Rows that it gave to an output.
       */
      rows: number | null;
      /**
       * Format: date-time
       * @description When the file was first noticed.
       */
      seen_at: string;
      /** @description SHA-256 of the content, in hexadecimal. */
      sha256: string;
      /** @description Where it stands in its life. */
      state: components["schemas"]["State"];
      /**
       * Format: int32
       * @description How often its work was begun.
       */
      tries: number;
      /**
       * Format: date-time
       * @description When its work was committed.
       */
      worked_at: string | null;
    };
    /**
     * @description What is done to entries.
     * @enum {string}
     */
    EntryAction: "reopen" | "again" | "file" | "delete" | "forget" | "unload";
    /** @description An entry with everything that is known of it. */
    EntryDetail: components["schemas"]["Entry"] & {
      /** @description Its changes, oldest first. */
      history: components["schemas"]["Change"][];
      made_from: components["schemas"]["Origin"] | null;
      worked_in: components["schemas"]["Batch"] | null;
    };
    /**
     * Format: int64
     * @description The number of an entry. They grow in the order in which files are entered.
     */
    EntryId: number;
    /** @description An entry, its history, and whether its file is where it should be. */
    EntryView: components["schemas"]["EntryDetail"] & {
      /** @description Where its file lies. */
      location: components["schemas"]["FileLocation"];
      /** @description The path under which its gate has it at its door; none when it has not any more. */
      place: string | null;
    };
    /** @description Lines of a file, around one of them. */
    Excerpt: {
      /** @description Whether it is no text, and has no lines. */
      binary: boolean;
      /**
       * Format: int64
       * @description The line at which something is wrong; none where the reason names none.
       */
      line: number | null;
      /** @description The lines. */
      lines: components["schemas"]["ExcerptLine"][];
      /** @description Whether there are more behind them. */
      more: boolean;
      /** @description What the reason quotes: values and names of columns. */
      quoted: string[];
    };
    /** @description A line of a file. */
    ExcerptLine: {
      /** @description Whether more of it is not shown. */
      cut: boolean;
      /**
       * Format: int64
       * @description Its number, from 1.
       */
      number: number;
      /** @description Its text; what is not UTF-8 is shown as U+FFFD. */
      text: string;
    };
    /** @description An expectation that a person has excused. */
    Excuse: {
      /**
       * Format: date-time
       * @description When.
       */
      at: string;
      /** @description Who. */
      who: string;
      /** @description Why. */
      why: string;
    };
    /** @description What need not come, who says so, and why. */
    ExcuseOrder: components["schemas"]["OrderBy"] & {
      /**
       * Format: date
       * @description The day.
       */
      day: string;
      /** @description The rule. */
      due: string;
      /** @description The value, where something is expected of each. */
      value?: string | null;
    };
    /** @description What hangs together. */
    Family: {
      /** @description What came from what. */
      links: components["schemas"]["FamilyLink"][];
      /** @description Files and works. */
      members: components["schemas"]["FamilyMember"][];
      /** @description Whether there is more than is shown. */
      more: boolean;
    };
    /**
     * @description What a member of a family is.
     * @enum {string}
     */
    FamilyKind: "entry" | "work" | "output";
    /** @description That one came from another. */
    FamilyLink: {
      /** @description What it came from. */
      from: string;
      /** @description What came. */
      to: string;
    };
    /** @description A file or a work. */
    FamilyMember: {
      entry: components["schemas"]["EntryId"] | null;
      /** @description The gate; none of an output. */
      gate: string | null;
      /** @description By which links name it. */
      key: string;
      /** @description What it is. */
      kind: components["schemas"]["FamilyKind"];
      /** @description A path, or what a work did. */
      name: string;
      /**
       * Format: int64
       * @description What a work wrote into it, or read from it, in rows.
       */
      rows: number | null;
      /** @description The entry's state. */
      state: string | null;
    };
    /** @description How it stands with the place from which a gate fetches. */
    FetchView: {
      /** @description What becomes of a file there once it is filed here: `left`, `deleted`, or where it is moved to. */
      after: string;
      /** @description What is being fetched right now. */
      doing: string | null;
      /** @description The folders that are looked at. */
      folder: string;
      /**
       * Format: date-time
       * @description When it was last looked at whole.
       */
      looked_at: string | null;
      /**
       * Format: date-time
       * @description When it is looked at next.
       */
      next_look: string | null;
      /** @description The place. */
      place: string;
      /**
       * Format: int64
       * @description Files that were seen there and wait.
       */
      waiting: number;
    };
    /** @description A file that would be taken and is not, or the reverse. */
    FileChange: {
      /** @description Why not, when it would not. */
      because: string | null;
      /** @description The gate. */
      gate: string;
      /** @description Its path. */
      path: string;
      /** @description Whether it would be taken. */
      taken: boolean;
    };
    /** @description Where the file of an entry lies, as a look just now has shown. */
    FileLocation: {
      /** @description The place; none when the file is known to be gone. */
      path: string | null;
      /** @description What is there. */
      status: components["schemas"]["LocationStatus"];
    };
    /** @description One thing in a drop folder. */
    FileView: {
      /** @description Why, in a sentence. */
      because: string;
      /**
       * Format: int64
       * @description Size in bytes.
       */
      bytes: number;
      /** @description Its drop folder. */
      drop: string;
      entry: components["schemas"]["EntryId"] | null;
      /** @description Fields captured from its path. */
      fields: components["schemas"]["BTreeMap"];
      /** @description The gate in whose drop folder it lies. */
      gate: string;
      /** @description What it is. */
      kind: components["schemas"]["Kind"];
      /**
       * Format: date-time
       * @description Modification time.
       */
      modified: string;
      /** @description Its name. */
      name: string;
      /**
       * Format: int32
       * @description User number of its owner.
       */
      owner: number;
      /** @description Path below the drop folder. */
      path: string;
      /**
       * @description Path below the folder that holds all drop folders of the gate; with one
       *     drop folder the same as `path`.
       */
      place: string;
      /** @description What the gate makes of it. */
      verdict: components["schemas"]["Verdict"];
    };
    /** @description One page of a drop folder, ordered by path. */
    Files: {
      /** @description What lies there. */
      files: components["schemas"]["FileView"][];
      /** @description The cursor of the next page; none at the end. */
      next: string | null;
      /** @description How many fit on all pages. */
      total: number;
    };
    /** @description The folder for which a gate is wanted, and a file in it that is one of many to come. */
    FolderChoice: {
      /** @description Path of the folder. */
      folder: string;
      /** @description Name of the file. */
      sample: string | null;
    };
    /** @description A file in a folder. */
    FolderFile: {
      /**
       * Format: int64
       * @description Bytes.
       */
      bytes: number;
      /**
       * Format: date-time
       * @description When it was modified.
       */
      modified: string | null;
      /** @description Its name. */
      name: string;
    };
    /** @description A folder. */
    FolderName: {
      /** @description Gates whose drop folder it is. */
      gates: string[];
      /** @description Its name. */
      name: string;
      /** @description Its path. */
      path: string;
    };
    /** @description What lies in a folder of this machine. */
    FolderView: {
      /** @description The folder above it, when that may be looked at. */
      above: string | null;
      /**
       * Format: int64
       * @description How many files there are.
       */
      file_count: number;
      /** @description Files in it, in order of name; the first ones. */
      files: components["schemas"]["FolderFile"][];
      /**
       * Format: int64
       * @description How many folders there are.
       */
      folder_count: number;
      /** @description Folders in it, in order of name; the first ones. */
      folders: components["schemas"]["FolderName"][];
      /** @description Its path; none of the list of the roots. */
      path: string | null;
    };
    /** @description What happened at a gate in the last day. */
    GateDay: {
      /**
       * Format: int64
       * @description Files that were entered.
       */
      entered: number;
      /**
       * Format: int64
       * @description Filed.
       */
      filed: number;
      /** @description The gate. */
      gate: string;
      /**
       * Format: int64
       * @description Held.
       */
      held: number;
      /**
       * Format: int64
       * @description The same as earlier ones.
       */
      repeats: number;
    };
    /**
     * @description A new gate as it was chosen. Paths are written as a configuration has them: relative ones
     *     start at its folder.
     */
    GateDraft: {
      /** @description Where worked files go; where they lie when it is not said. */
      archive: string | null;
      /** @description Its drop folder. */
      drop: string;
      /** @description Where held files go; where they lie when it is not said. */
      hold: string | null;
      /** @description Its name. */
      name: string;
      /** @description Which files it takes; all when there is none. */
      take: string[];
      /** @description What is done with them. */
      work: components["schemas"]["DraftWork"];
    };
    /** @description What came to a gate in a time. */
    GateFigures: {
      /**
       * Format: int64
       * @description Their bytes.
       */
      bytes: number;
      /**
       * Format: int64
       * @description Files that were entered.
       */
      files: number;
      /** @description The gate. */
      gate: string;
      /**
       * Format: int64
       * @description Files that are held.
       */
      held: number;
      /**
       * Format: int64
       * @description Files that were the same as earlier ones.
       */
      repeats: number;
      /**
       * Format: int64
       * @description Rows that they gave.
       */
      rows: number;
    };
    /** @description What a gate for a folder might be. */
    GateProposal: {
      /** @description A database beside it. */
      database: string;
      /** @description A gate that takes the sample, or all that lies there, and files it. */
      draft: components["schemas"]["GateDraft"];
      /** @description What the sample is, in words; or why it is no table. */
      found: string | null;
      /** @description Gates that look into this folder already. */
      gates: string[];
      /** @description A file for a table of all rows. */
      output: string;
      /** @description Patterns, the closest first. */
      patterns: components["schemas"]["PatternProposal"][];
      table: components["schemas"]["DraftTable"] | null;
    };
    /** @description What came to a gate, beside the same time a week before. */
    GateReport: components["schemas"]["GateFigures"] & {
      /**
       * Format: int64
       * @description Bytes in the same time a week before.
       */
      bytes_before: number;
      /**
       * Format: int64
       * @description Files in the same time a week before.
       */
      files_before: number;
    };
    /**
     * @description What a gate is doing as a whole.
     * @enum {string}
     */
    GateState: "open" | "paused" | "closed" | "troubled";
    /** @description A gate and its counts. */
    GateView: {
      /** @description Where worked files go; none when they are left. */
      archive: string | null;
      closed: components["schemas"]["Closed"] | null;
      /** @description Entries by state, and `arriving` files. */
      counts: {
        [key: string]: number;
      };
      /** @description What is being done right now. */
      doing: string | null;
      /** @description Its drop folder, or the paths of several, separated by commas. */
      drop: string;
      fetch: components["schemas"]["FetchView"] | null;
      /**
       * Format: int64
       * @description Entries filed since midnight in the service's time zone.
       */
      filed_today: number;
      /** @description The drop folders that are there. */
      folders: string[];
      /** @description With which others it is shown. */
      group: string | null;
      /**
       * Format: date-time
       * @description When the newest entry was entered.
       */
      last_arrival: string | null;
      /**
       * Format: date-time
       * @description When the drop folder was last looked at.
       */
      last_pass: string | null;
      /** @description Its name. */
      name: string;
      /**
       * Format: date-time
       * @description When the next sweep is due.
       */
      next_pass: string | null;
      /** @description Batches that are being gathered. */
      open_batches: components["schemas"]["OpenBatch"][];
      /** @description In which order files are worked. */
      order: string;
      pause: components["schemas"]["Pause"] | null;
      /** @description Whether a person has paused it. */
      paused: boolean;
      /** @description Standing problems. */
      problems: string[];
      /**
       * Format: int64
       * @description Repeats since midnight in the service's time zone.
       */
      repeats_today: number;
      /** @description When a file counts as complete, in words. */
      settle: string;
      /** @description What it is doing as a whole. */
      state: components["schemas"]["GateState"];
      /** @description Which files it takes. */
      take: string[];
      /**
       * Format: int64
       * @description Files in its drop folders that no pattern takes, as of the last sweep.
       */
      untaken: number;
      /** @description How the drop folder is watched. */
      watching: string;
      /** @description What it does with its files. */
      work: components["schemas"]["WorkKind"];
      /** @description The output, or the program. */
      work_detail: string | null;
      /** @description What that is, as in "merges rows". */
      work_does: string;
      /** @description What `work_detail` is, as in "Table". */
      work_label: string | null;
    };
    /** @description A file that was handed in. */
    HandedInFile: {
      /**
       * Format: int64
       * @description Its size.
       */
      bytes: number;
      entry: components["schemas"]["EntryId"] | null;
      /** @description Why it is held. */
      reason: string | null;
      repeat_of: components["schemas"]["EntryId"] | null;
      /** @description Its sum. */
      sha256: string;
      /** @description The state of its entry, or `arriving`. */
      state: string;
    };
    /** @description Something that happened. */
    Happening: {
      /** @description About what: a gate, `due:NAME` or `lookout:NAME`. */
      about: string;
      /**
       * Format: date-time
       * @description When.
       */
      at: string;
      /**
       * Format: date-time
       * @description When it ended.
       */
      ended_at: string | null;
      /** @description How it ended, in words. */
      ended_words: string | null;
      entry: components["schemas"]["EntryId"] | null;
      /** @description Its number; they only grow. */
      id: components["schemas"]["HappeningId"];
      /** @description What: `late`, `missing`, `breach`, `trouble` and so on. */
      kind: string;
      /** @description Whether it has an end. */
      lasts: boolean;
      /** @description Of what of that: a value and its day, a file, a limit. */
      subject: string;
      /** @description What it is, in words. */
      words: string;
    };
    /**
     * Format: int64
     * @description The number of something that happened at a gate, a place or an arrival that is due.
     */
    HappeningId: number;
    /**
     * @description Held entries of a gate with one reason: reasons that differ in numbers and in what stands
     *     in quotes alone are one.
     */
    HeldGroup: {
      /**
       * Format: int64
       * @description So many.
       */
      count: number;
      /** @description The first of them. */
      entries: components["schemas"]["EntryId"][];
      /** @description The gate. */
      gate: string;
      /** @description The reason of the first. */
      reason: string;
      /**
       * Format: date-time
       * @description Since when the first of them is known.
       */
      since: string;
    };
    /** @description Something that was found. */
    Hit: {
      entry: components["schemas"]["EntryId"] | null;
      /** @description Its gate. */
      gate: string | null;
      /** @description What it is. */
      kind: components["schemas"]["HitKind"];
      /** @description Its path, for an output. */
      path: string | null;
      /** @description What it is called. */
      title: string;
      /** @description What is to be said of it, in a sentence. */
      words: string;
    };
    /**
     * @description What was found.
     * @enum {string}
     */
    HitKind: "answer" | "entry" | "gate" | "held" | "file" | "output";
    /**
     * @description What kind of thing lies in a folder.
     * @enum {string}
     */
    Kind: "file" | "folder" | "link" | "special";
    /** @description A rule as it would follow from history, and what it follows from. */
    Learned: {
      /** @description Why there is none. */
      because: string | null;
      /** @description The field of which each value comes, if there is one. */
      each: string | null;
      /**
       * Format: int64
       * @description Files that come for each of them, or for the gate, on most days.
       */
      files: number;
      /** @description The gate. */
      gate: string;
      /** @description The rule, for the configuration; none when history is too short. */
      rule: string | null;
      /** @description What was looked at, in words. */
      seen: string;
      /** @description Its values, with the number of days on which each came. */
      values: [string, number][];
      /** @description By day of the week. */
      week: components["schemas"]["LearnedDay"][];
    };
    /** @description What was seen of the files of a gate on one day of the week. */
    LearnedDay: {
      /** @description Of so many. */
      of: number;
      /**
       * Format: int32
       * @description How far from that half of the days were, in minutes.
       */
      spread_minutes: number;
      /** @description The time at which the day's files were usually all here. */
      usual: string | null;
      /** @description The day of the week. */
      weekday: string;
      /** @description On so many of them files came. */
      with_files: number;
    };
    /** @description A file that was not adopted. */
    LeftFile: {
      /** @description Why. */
      because: string;
      /** @description Path below the drop folders' base. */
      path: string;
    };
    /** @description A column of a table of a database. */
    LoadedColumn: {
      /** @description Its name. */
      name: string;
      /** @description Its type in the database's own words. */
      type: string;
    };
    /** @description Rows of a table into which an entry was loaded. */
    LoadedRows: {
      /**
       * @description The column in which the number of the entry stands; without one the rows are
       *     those of any entry.
       */
      by: string | null;
      /** @description The table's columns. */
      columns: components["schemas"]["LoadedColumn"][];
      /** @description The entry. */
      entry: components["schemas"]["EntryId"];
      /** @description Whether there are more. */
      more: boolean;
      /** @description The database and the table. */
      output: string;
      /** @description The rows, their values as text; none where nothing stands. */
      rows: (string | null)[][];
    };
    /**
     * @description What is found where the file of an entry should lie.
     * @enum {string}
     */
    LocationStatus: "unchanged" | "changed" | "missing" | "unreadable" | "gone";
    /** @description A lookout, what it saw last, and what is broken. */
    LookoutView: {
      /** @description Where it looks. */
      at: string;
      /** @description Limits that are broken. */
      breaches: components["schemas"]["Happening"][];
      /**
       * Format: int64
       * @description Their sizes in bytes, in sum.
       */
      bytes: number;
      /** @description How often, in words. */
      every: string;
      /**
       * Format: int64
       * @description Files that it is about.
       */
      files: number;
      /**
       * Format: int64
       * @description Folders that it saw then.
       */
      folders: number;
      /**
       * Format: date-time
       * @description When it looked last; none when no service runs.
       */
      looked_at: string | null;
      /** @description Its name. */
      name: string;
    };
    /** @description A token that was made. */
    MadeToken: {
      /** @description What is shown to the service. It is told this once. */
      secret: string;
      /** @description What is known of it from now on. */
      token: components["schemas"]["TokenView"];
    };
    /** @description A file that a pattern matches. */
    Match: {
      /** @description What is captured from it. */
      fields: components["schemas"]["BTreeMap"];
      /** @description Path below the drop folder. */
      path: string;
    };
    /** @description What a pattern makes of the files that lie in a drop folder. */
    Matches: {
      /** @description The first files that it matches, in order of name; at most 200. */
      matched: components["schemas"]["Match"][];
      /**
       * Format: int64
       * @description How many files it matches.
       */
      matched_count: number;
      /** @description The first files that it does not match; at most 200. */
      missed: components["schemas"]["Miss"][];
      /**
       * Format: int64
       * @description How many it does not match.
       */
      missed_count: number;
      /** @description The pattern. */
      pattern: string;
    };
    /** @description A message. */
    Message: {
      /**
       * Format: date-time
       * @description When it was written.
       */
      at: string;
      /** @description What it says. */
      body: unknown;
      /**
       * Format: date-time
       * @description When it was delivered or given up.
       */
      ended_at: string | null;
      /** @description Its number; they only grow. */
      id: components["schemas"]["MessageId"];
      /**
       * Format: date-time
       * @description Before this it is not tried again.
       */
      not_before: string;
      /** @description Where it stands. */
      state: components["schemas"]["MessageState"];
      /** @description What it is about, in a line. */
      subject: string;
      /** @description Who is told. */
      tell: string;
      /**
       * Format: int32
       * @description How often it was tried.
       */
      tries: number;
      /** @description Its identity for the receiver: the same over all attempts. */
      uid: string;
      /** @description What the last attempt came to. */
      words: string;
    };
    /**
     * Format: int64
     * @description The number of a message to somebody who is told.
     */
    MessageId: number;
    /**
     * @description Where a message stands.
     * @enum {string}
     */
    MessageState: "waiting" | "sent" | "failed";
    /** @description A file that a pattern does not match. */
    Miss: {
      /** @description How far the pattern fits, and what it then needs. */
      because: string;
      /** @description Path below the drop folder. */
      path: string;
    };
    /**
     * @description A time in the life of an entry.
     * @enum {string}
     */
    Moment: "seen" | "entered" | "worked" | "filed";
    /** @description An entry that a worker has taken. */
    Offered: {
      /** @description The entry. */
      entry: components["schemas"]["Entry"];
      /** @description The fencing number: what the worker says of the entry must bear it. */
      fence: components["schemas"]["BatchId"];
      /**
       * Format: int64
       * @description How long that is from now, in milliseconds: the worker's clock may be another.
       */
      lease_ms: number;
      /**
       * Format: date-time
       * @description The lease ends then, unless it is prolonged.
       */
      until: string;
    };
    /** @description A batch that is being gathered. */
    OpenBatch: {
      /** @description What its files have in common, where the gate says so. */
      by: string | null;
      /**
       * Format: int64
       * @description Their size in bytes.
       */
      bytes: number;
      /** @description When it closes, in words. */
      closes: string;
      /**
       * Format: date-time
       * @description When it closes by itself, if nothing more comes.
       */
      closes_at: string | null;
      /**
       * Format: int64
       * @description Files that are in it.
       */
      files: number;
      /** @description What is still missing, where the gate says what must be in it. */
      missing: string[];
      /** @description The output that its rows will go into. */
      output: string;
      /** @description Paths of these files; at most 500. */
      paths: string[];
    };
    /** @description What is to be done to which entries, by whom and why. */
    Order: components["schemas"]["OrderBy"] & {
      /** @description What is done. */
      action: components["schemas"]["EntryAction"];
      /** @description To these entries. */
      entries?: components["schemas"]["EntryId"][];
      /**
       * Format: int64
       * @description How many entries it must be: when there are others by now, nothing is done.
       */
      expected?: number | null;
      fitting?: components["schemas"]["Query"] | null;
      /** @description Only tell what would be done. */
      rehearse?: boolean;
      /**
       * @description Have a repeat worked, although the entry that it repeats was: its rows may stand
       *     twice then.
       */
      twice?: boolean;
    };
    /** @description A person, and why. */
    OrderBy: {
      /** @description Who: said by the holder of the local token alone; everybody else is who they are. */
      who: string | null;
      /** @description Why; needed to do it, not to rehearse it. */
      why: string;
    };
    /** @description Of what a file was made that is an entry itself. */
    Origin: {
      /** @description The batch in which it was made. */
      batch: components["schemas"]["BatchId"];
      entry: components["schemas"]["EntryId"] | null;
      /** @description The gate that made it. */
      gate: string;
      /** @description The path of that entry. */
      path: string | null;
      /** @description What it is there, such as a member. */
      role: components["schemas"]["OutputRole"];
    };
    /** @description A file that work made, or added to. */
    Output: {
      account: components["schemas"]["Account"] | null;
      became: components["schemas"]["EntryId"] | null;
      /**
       * Format: int64
       * @description Bytes that this batch wrote.
       */
      bytes: number | null;
      /** @description The same as figures. */
      figures: Record<string, never> | null;
      /** @description Whether rows of an entry stand in it that can be shown, and taken out again. */
      has_rows: boolean;
      /** @description What it is called before people. */
      label: string;
      /** @description How it met what was there. */
      mode: components["schemas"]["OutputMode"];
      /**
       * @description What is told of it beside that, in words: how it was compressed, why what was there
       *     stayed, what was left out of an archive.
       */
      note: string | null;
      /** @description The output's path. */
      path: string;
      /** @description By what its place can be asked whether it is there; none for a file. */
      proof: string | null;
      /**
       * Format: date-time
       * @description When it stood in its place.
       */
      published_at: string | null;
      /** @description What it is. */
      role: components["schemas"]["OutputRole"];
      /**
       * Format: int64
       * @description Rows that this batch wrote.
       */
      rows: number | null;
      /** @description SHA-256 of what this batch wrote, in hexadecimal. */
      sha256: string | null;
    };
    /** @description An output: how its rows add up, and what its batches wrote, the newest first. */
    OutputAccount: {
      /**
       * Format: int64
       * @description Batches that wrote into it.
       */
      batches: number;
      /**
       * Format: int64
       * @description Rows that they left out.
       */
      left_out: number;
      /**
       * Format: int64
       * @description The cursor of the next page, with earlier batches; none at the end.
       */
      next: number | null;
      /** @description The batches of this page. */
      parts: components["schemas"]["OutputPart"][];
      /**
       * Format: int64
       * @description Rows that all of them read.
       */
      rows_in: number;
      /**
       * Format: int64
       * @description Rows that they wrote.
       */
      rows_out: number;
      /**
       * Format: int64
       * @description Rows that they set aside.
       */
      set_aside: number;
    };
    /** @description What was written into one output in a time. */
    OutputFigures: {
      /**
       * Format: int64
       * @description Batches that wrote to it.
       */
      batches: number;
      /**
       * Format: int64
       * @description Their bytes.
       */
      bytes: number;
      /** @description The output. */
      path: string;
      /**
       * Format: int64
       * @description Their rows.
       */
      rows: number;
    };
    /** @enum {string} */
    OutputMode: "create" | "append" | "replace" | "number" | "update" | "in place" | "leave" | "add" | "upsert";
    /** @description What one batch wrote into an output. */
    OutputPart: components["schemas"]["Output"] & {
      /** @description The batch. */
      batch: components["schemas"]["BatchId"];
      /**
       * Format: int64
       * @description Entries that were worked in it.
       */
      entries: number;
      /** @description The gate. */
      gate: string;
    };
    /** @enum {string} */
    OutputRole:
      "rows" | "set aside" | "account" | "all" | "load" | "copy" | "bundle" | "unpacked" | "member" | "edited";
    /** @description A page of outputs, in order of path. */
    Outputs: {
      /** @description The cursor of the next page; none at the end. */
      next: string | null;
      /** @description Each with what was written into it last. */
      outputs: components["schemas"]["OutputPart"][];
    };
    /**
     * @description How a text is compressed.
     * @enum {string}
     */
    Packing: "gzip" | "zstd";
    /** @description One page of entries, newest first. */
    Page: {
      /** @description The entries. */
      entries: components["schemas"]["Entry"][];
      /**
       * Format: int64
       * @description The cursor of the next page; none at the end.
       */
      next: number | null;
    };
    /** @description What one pass did. */
    PassReport: {
      /**
       * Format: int64
       * @description Files that are still arriving.
       */
      arriving: number;
      /**
       * Format: int64
       * @description Files that settled and were entered.
       */
      entered: number;
      /**
       * Format: int64
       * @description Files that were fetched from its place before.
       */
      fetched: number;
      /**
       * Format: int64
       * @description Entries that were filed.
       */
      filed: number;
      /** @description The gate. */
      gate: string;
      /**
       * Format: int64
       * @description Entries that were held.
       */
      held: number;
      /**
       * Format: int64
       * @description Of these, passed over.
       */
      passed_over: number;
      /** @description Whether the gate is paused, so that nothing was taken. */
      paused: boolean;
      /** @description Standing problems of the gate. */
      problems: string[];
      /**
       * Format: int64
       * @description Of these, repeats.
       */
      repeats: number;
      /**
       * Format: int64
       * @description Files that wait at its place, until they have been the same for long enough.
       */
      waiting_there: number;
      /**
       * Format: int64
       * @description Entries that were worked.
       */
      worked: number;
    };
    /** @description Another password. */
    PasswordOrder: {
      /** @description The new one. */
      password: string;
      /** @description The one before; needed by who changes their own. */
      present?: string | null;
    };
    /** @description A pattern, and what it makes of the files that lie there. */
    PatternProposal: {
      /** @description What it captures from the sample. */
      fields: components["schemas"]["BTreeMap"];
      /**
       * Format: int64
       * @description How many it leaves.
       */
      left: number;
      /** @description The pattern. */
      pattern: string;
      /**
       * Format: int64
       * @description How many files it takes.
       */
      taken: number;
    };
    /** @description A person has paused a gate. */
    Pause: {
      /** @description Who. */
      by: string | null;
      /**
       * Format: date-time
       * @description Since when, where that is known.
       */
      since: string | null;
    };
    /** @description A gate that a person has paused. */
    PausedGate: {
      /** @description The gate. */
      gate: string;
      pause: components["schemas"]["Pause"] | null;
    };
    /** @description A file or folder at a place. */
    PlaceFile: {
      /**
       * Format: int64
       * @description Size in bytes; 0 of a folder.
       */
      bytes: number;
      /** @description What it is. */
      kind: components["schemas"]["PlaceFileKind"];
      /**
       * Format: date-time
       * @description When it was modified by the clock of the server, where that tells.
       */
      modified: string | null;
      /** @description Its name. */
      name: string;
      /** @description Its path below the folder of the place's address. */
      path: string;
    };
    /**
     * @description What a name at a place is.
     * @enum {string}
     */
    PlaceFileKind: "file" | "folder" | "other";
    /** @description What lies in a folder of a place. */
    PlaceFolder: {
      /** @description Its address. */
      at: string;
      /**
       * Format: int64
       * @description Bytes of all files in the folder.
       */
      bytes: number;
      /**
       * Format: int64
       * @description How many there are.
       */
      count: number;
      /** @description Folders first, then files, in order of name; the first ones. */
      files: components["schemas"]["PlaceFile"][];
      /** @description The folder, below that of its address. */
      folder: string;
      /** @description The place. */
      place: string;
    };
    /** @description A server from which is fetched, or to which is delivered. */
    PlaceView: {
      /** @description Its address. */
      at: string;
      /** @description Gates that deliver to it. */
      delivered_by: string[];
      /** @description Gates that fetch from it. */
      fetched_by: string[];
      /** @description Its name. */
      name: string;
      /** @description Standing problems of those gates with it. */
      problems: string[];
    };
    /** @description What the content of an entry made when it was last worked: it is there still. */
    PriorWork: {
      /** @description The entry by which it was made: itself, or the one whose repeat it is. */
      by: components["schemas"]["EntryId"];
      /** @description The entry. */
      entry: components["schemas"]["EntryId"];
      /** @description The outputs, and what the batch wrote into them. */
      outputs: components["schemas"]["Output"][];
      /**
       * Format: int64
       * @description Rows that would stand twice, when it is worked again.
       */
      rows_twice: number;
    };
    /** @description A problem document. */
    Problem: {
      /** @description What is wrong, and what to do. */
      detail: string;
      /**
       * Format: int64
       * @description How many seconds to wait; also in `Retry-After`.
       */
      retry_after?: number | null;
      /**
       * Format: int32
       * @description The HTTP status.
       */
      status: number;
      /** @description The status in words. */
      title: string;
      /** @description What kind of problem it is; `about:blank` says no more than the status. */
      type: string;
    };
    /** @description For how long a lease is prolonged. */
    ProlongOrder: {
      /** @description From now on, such as `5m`; by default as the gate says. */
      lease: string | null;
    };
    /** @description The new end of a lease. */
    Prolonged: {
      /**
       * Format: int64
       * @description How long that is from now, in milliseconds.
       */
      lease_ms: number;
      /**
       * Format: date-time
       * @description It ends then.
       */
      until: string;
    };
    /** @description Which entries are asked for; an absent part does not filter. */
    Query: {
      /** @default null */
      above: components["schemas"]["EntryId"] | null;
      /** @default null */
      batch: components["schemas"]["BatchId"] | null;
      /**
       * Format: int64
       * @description Where the page begins: the `next` of the page before.
       * @default null
       */
      cursor: number | null;
      /**
       * @description With this field: NAME=VALUE, several separated by commas.
       * @default null
       */
      field: string | null;
      /**
       * @description Only entries that a person has said to forget.
       * @default null
       */
      forgotten: boolean | null;
      /**
       * @description Of this gate.
       * @default null
       */
      gate: string | null;
      /**
       * @description With these numbers, separated by commas; at most 1000.
       * @default null
       */
      ids: string | null;
      /**
       * Format: int32
       * @description At most so many; 1 to 1000, by default 50.
       * @default null
       */
      limit: number | null;
      /**
       * @description Oldest, smallest or first first, instead of last.
       * @default false
       */
      oldest_first: boolean;
      /**
       * @description Whose rows are in this output.
       * @default null
       */
      output: string | null;
      /**
       * @description Whose path below the drop folder fits this pattern.
       * @default null
       */
      path: string | null;
      /**
       * @description Only repeats, or only entries that are none.
       * @default null
       */
      repeats: boolean | null;
      /**
       * Format: date-time
       * @description At this time or later (RFC 3339).
       * @default null
       */
      since: string | null;
      /** @default null */
      sort: components["schemas"]["Sort"] | null;
      /** @default null */
      state: components["schemas"]["State"] | null;
      /**
       * @description With this SHA-256, as 64 hexadecimal digits.
       * @default null
       */
      sum: string | null;
      /**
       * @description Whose path contains this text, or whose SHA-256 begins with it.
       * @default null
       */
      text: string | null;
      /** @default null */
      time: components["schemas"]["Moment"] | null;
      /**
       * Format: date-time
       * @description Before this time (RFC 3339).
       * @default null
       */
      until: string | null;
    };
    /** @description An entry to which something was not done. */
    Refused: {
      /** @description Why. */
      because: string;
      /** @description The entry. */
      entry: components["schemas"]["EntryId"];
    };
    /** @description What a pass would do with one file. */
    Rehearsed: {
      /** @description What else would be made of it, as at a gate that delivers to several destinations. */
      also: components["schemas"]["AlsoMade"][];
      /** @description Why it would be held, waits, or whose repeat it is. */
      because: string | null;
      /**
       * Format: int64
       * @description Size in bytes.
       */
      bytes: number;
      entry: components["schemas"]["EntryId"] | null;
      /** @description Where it would be filed; none when it would stay. */
      filed_to: string | null;
      /** @description The gate. */
      gate: string;
      mode: components["schemas"]["OutputMode"] | null;
      /** @description The output that its rows would go into. */
      output: string | null;
      /** @description Path below the drop folder. */
      path: string;
      /**
       * @description Path below the folder that holds all drop folders of the gate; with one
       *     drop folder the same as `path`.
       */
      place: string;
      /** @description The program that would be run. */
      program: string | null;
      /** @description What a pass would do with it. */
      will: components["schemas"]["Will"];
    };
    /** @description What a changed configuration came to. */
    Reloaded: {
      /** @description Gates that are new. */
      added: string[];
      /** @description Gates whose rules are other ones now. */
      changed: string[];
      /** @description Keys of `[service]` that were changed, and are only taken at a restart. */
      needs_restart: string[];
      /** @description Gates that are no more. */
      removed: string[];
      /** @description Gates that go on as they were. */
      unchanged: string[];
    };
    /** @description A file that was removed. */
    Removal: {
      /**
       * Format: int64
       * @description Its size in bytes.
       */
      bytes: number;
      entry: components["schemas"]["EntryId"] | null;
      /** @description Its number; they only grow. */
      id: components["schemas"]["RemovalId"];
      /**
       * Format: date-time
       * @description When it was modified last.
       */
      modified: string;
      /** @description Where it was moved instead. */
      moved_to: string | null;
      /** @description What it was. */
      path: string;
      /**
       * Format: date-time
       * @description When it went; none when nobody knows whether it did.
       */
      removed_at: string | null;
      /** @description The rule, or the folder that a person named. */
      rule: string;
      /** @description Its SHA-256, where it was known. */
      sha256: string | null;
      /** @description Who said so. */
      who: string;
      /** @description Why. */
      why: string;
    };
    /**
     * Format: int64
     * @description The number of a file that a rule has cleared, or is about to.
     */
    RemovalId: number;
    /** @description Files that were removed by a rule. */
    RemovedFigures: {
      /**
       * Format: int64
       * @description Their bytes.
       */
      bytes: number;
      /**
       * Format: int64
       * @description So many.
       */
      files: number;
      /** @description The rule. */
      rule: string;
    };
    /** @description What a time did. */
    Report: {
      /** @description Limits that were broken. */
      breaches: components["schemas"]["Happening"][];
      /** @description What was expected on its days, those first that need a person. */
      dues: components["schemas"]["DueCell"][];
      /** @description What came to each gate. */
      gates: components["schemas"]["GateReport"][];
      /** @description What is held now of all that came, by gate and reason. */
      held: components["schemas"]["HeldGroup"][];
      /** @description What was written. */
      outputs: components["schemas"]["OutputFigures"][];
      /** @description Files that were removed by each rule. */
      removed: components["schemas"]["RemovedFigures"][];
      /**
       * Format: date-time
       * @description From when.
       */
      since: string;
      /** @description What happened when. */
      timeline: components["schemas"]["TimelinePart"][];
      /** @description Troubles of gates. */
      troubles: components["schemas"]["Happening"][];
      /**
       * Format: date-time
       * @description Until when.
       */
      until: string;
      /** @description Unusual files. */
      unusual: components["schemas"]["Happening"][];
      /** @description The time zone of its days. */
      zone: string;
    };
    /** @description Who takes what a lookout sees as right, and why. */
    RightOrder: components["schemas"]["OrderBy"];
    /**
     * @description What somebody may do.
     * @enum {string}
     */
    Role: "supplier" | "worker" | "viewer" | "operator" | "admin";
    /** @description Another role. */
    RoleOrder: {
      /** @description The role. */
      role: components["schemas"]["Role"];
    };
    /** @description What is in a file. */
    Sample: {
      /** @description What parts the fields of delimited text. */
      delimiter?: string | null;
      /** @description Encoding of text. */
      encoding?: string | null;
      /** @description Its kind, in words. */
      format: string;
      packed?: components["schemas"]["Packing"] | null;
      /** @description Its tables: one, or one for each sheet. */
      tables: components["schemas"]["SampleTable"][];
    };
    /** @description What stands in a column. */
    SampleColumn: {
      /**
       * @description A little distribution: of numbers and times by value in equal steps from the
       *     least to the greatest, of texts the commonest first.
       */
      bars: components["schemas"]["Bar"][];
      /**
       * Format: int64
       * @description Different values, as far as they were counted.
       */
      different: number;
      /** @description Whether there are more different values than were counted. */
      different_more: boolean;
      /**
       * Format: int64
       * @description Rows in which nothing stands.
       */
      empty: number;
      /** @description The least value. */
      least?: string | null;
      /** @description The greatest value. */
      most?: string | null;
      /** @description Its name. */
      name: string;
      /** @description The narrowest type that all values have. */
      type: string;
    };
    /** @description What is in one table. */
    SampleTable: {
      /**
       * Format: int64
       * @description How many there are in all, about, as the bytes that were read tell; none where
       *     they do not.
       */
      about?: number | null;
      /** @description Its columns. */
      columns: components["schemas"]["SampleColumn"][];
      /** @description What is wrong with it, if anything; the rows before it were read. */
      fault?: string | null;
      /** @description The first rows. */
      first: (string | null)[][];
      /** @description Whether there are more, which were not read. */
      more: boolean;
      /**
       * Format: int64
       * @description Rows that were read.
       */
      rows: number;
      /** @description The sheet of a workbook. */
      sheet?: string | null;
    };
    /** @description A configuration that was saved, and is in force. */
    SavedConfig: {
      /** @description The sum of what stands in the file now. */
      sha256: string;
      /** @description What it came to. */
      taken: components["schemas"]["Reloaded"];
    };
    /** @description What the service is. */
    ServiceInfo: {
      /** @description Its configuration file. */
      configuration: string;
      /**
       * @description What is wrong with the configuration file as it is now, while the one
       *     before is still in force.
       */
      fault: string | null;
      /**
       * Format: date-time
       * @description When it started.
       */
      started: string;
      /** @description Its state folder. */
      state: string;
      /** @description Time zone of dates in templates, and of `today`. */
      timezone: string;
      /** @description Version of the program. */
      version: string;
    };
    /** @description Who the caller is. */
    Session: {
      /** @description Whether there are users, who sign in by name. */
      by_name: boolean;
      /** @description Whether they are known by the local token, and say themselves by which name they go. */
      local: boolean;
      /** @description Who it is; none where nobody has signed in. */
      name: string | null;
      role: components["schemas"]["Role"] | null;
      /** @description Whether the caller is known. */
      signed_in: boolean;
    };
    /**
     * Format: int64
     * @description The number of a session.
     */
    SessionId: number;
    /** @description A session that has not ended. */
    SessionView: {
      /** @description From where it was begun. */
      address: string;
      /**
       * Format: date-time
       * @description When it was begun.
       */
      begun_at: string;
      /** @description Its number. */
      id: components["schemas"]["SessionId"];
      /** @description Whether it is the caller's. */
      own: boolean;
      /** @description What the browser says that it is. */
      program: string;
      /**
       * Format: date-time
       * @description When it ends at the latest.
       */
      until: string;
      /**
       * Format: date-time
       * @description When it was used last, to within a minute.
       */
      used_at: string;
      /** @description The user; none when it was begun by the local token. */
      user: string | null;
    };
    /** @description What is shown to sign in: the token of the state folder, or a name and its password. */
    SignIn: {
      /** @description A user's name. */
      name: string | null;
      /** @description Their password. */
      password: string | null;
      /** @description The token from the state folder; on the service's own machine alone. */
      token: string | null;
    };
    /**
     * @description In which order entries are listed.
     * @enum {string}
     */
    Sort: "entered" | "modified" | "worked" | "filed" | "size" | "name";
    /**
     * @description Where an entry stands in its life.
     * @enum {string}
     */
    State: "ready" | "working" | "worked" | "filed" | "repeat" | "passed over" | "held" | "gone" | "adopted";
    /** @description A file that stays. */
    StayingFile: {
      /** @description Why. */
      because: string;
      /** @description Its path. */
      path: string;
    };
    /** @description What a worker asks for. */
    TakeOrder: {
      /** @description For how long, such as `5m`; by default as the gate says. */
      lease?: string | null;
      /** @description At most so many entries; by default 1. */
      most?: number | null;
      /** @description How long to wait when there is nothing, such as `30s`; by default not at all. */
      wait?: string | null;
      /** @description The worker's name, for people. */
      worker: string;
    };
    /** @description What went in and out of a merge for one table of a source, in rows. */
    Tally: {
      /**
       * Format: int64
       * @description Values that did not fit and were emptied.
       */
      emptied: number;
      /**
       * Format: int64
       * @description Rows left out: in which nothing stands, or that were there already.
       */
      left_out: number;
      /**
       * Format: int64
       * @description Rows read, the header not counted.
       */
      rows: number;
      /**
       * Format: int64
       * @description Rows that did not fit, written to the rejects.
       */
      set_aside: number;
      /** @description The sheet of a workbook. */
      sheet?: string | null;
      /** @description Name of the source. */
      source: string;
      /**
       * Format: int64
       * @description Rows written to the output.
       */
      taken: number;
    };
    /** @description Whether a receiver took what it was told for a test. */
    TellTest: {
      /** @description Why not. */
      because: string | null;
      /** @description To whom, in words. */
      receiver: string;
      /** @description Whether it took it. */
      taken: boolean;
      /** @description The tell. */
      tell: string;
    };
    /** @description Who hears of what, and how that goes. */
    TellView: {
      /** @description About what; about all where it is empty. */
      about: string[];
      /**
       * Format: int64
       * @description Messages that were given up in the last week.
       */
      failed: number;
      /** @description Its name. */
      name: string;
      /** @description Of what it is told. */
      of: string[];
      /** @description What the last attempt came to that was none. */
      problem: string | null;
      /** @description To whom, in words. */
      receiver: string;
      /**
       * Format: int64
       * @description Messages that are not delivered yet.
       */
      waiting: number;
    };
    /** @description A piece of the time. */
    TimelinePart: {
      /**
       * Format: date-time
       * @description When it began.
       */
      begins: string;
      /**
       * Format: int64
       * @description Files that were entered.
       */
      entered: number;
      /**
       * Format: int64
       * @description Files that were filed.
       */
      filed: number;
      /**
       * Format: int64
       * @description Files that were held.
       */
      held: number;
    };
    /**
     * Format: int64
     * @description The number of a token.
     */
    TokenId: number;
    /** @description A token that is to be made. */
    TokenOrder: {
      /** @description The gates at which that is, for the roles worker and supplier. */
      gates?: string[];
      /** @description What it is called; by default as its role. */
      label?: string | null;
      /** @description How long it is good, such as `90d`; by default until it is revoked. */
      lasting?: string | null;
      /** @description What may be done with it. */
      role: components["schemas"]["Role"];
    };
    /** @description A token. */
    TokenView: {
      /** @description The gates at which that is; empty for all. */
      gates: string[];
      /** @description Its number. */
      id: components["schemas"]["TokenId"];
      /** @description What it is called. */
      label: string;
      /**
       * Format: date-time
       * @description When it was made.
       */
      made_at: string;
      /** @description By whom. */
      made_by: string;
      /** @description The user whose it is, with whom it goes. */
      owner: string | null;
      /** @description What may be done with it. */
      role: components["schemas"]["Role"];
      /**
       * Format: date-time
       * @description When it ends; none when it does not.
       */
      until: string | null;
      /**
       * Format: date-time
       * @description When it was shown last since the service was started.
       */
      used_at: string | null;
    };
    /** @description What an edited configuration would come to. */
    TriedConfig: {
      /** @description Gates that are new. */
      added: string[];
      /** @description Gates whose rules would be other ones. */
      changed: string[];
      /** @description What is wrong with it; the rest is empty then. */
      faults: components["schemas"]["ConfigFault"][];
      /**
       * @description Files that lie there now and would be taken that are not, or the reverse; the first
       *     hundred.
       */
      files: components["schemas"]["FileChange"][];
      /**
       * Format: int64
       * @description How many would not be taken any more that are.
       */
      left_count: number;
      /** @description Whether there are more files than were looked at. */
      more: boolean;
      /** @description Gates that would be no more. */
      removed: string[];
      /**
       * Format: int64
       * @description How many would be taken that are not.
       */
      taken_count: number;
    };
    /** @description Which entries are to be trimmed. */
    TrimOrder: {
      /**
       * Format: date-time
       * @description Those whose life ended before this time.
       */
      before: string;
      /** @description Only tell how many there are. */
      rehearse?: boolean;
    };
    /** @description How many entries were trimmed, or would be. */
    Trimmed: {
      /**
       * Format: int64
       * @description So many.
       */
      trimmed: number;
    };
    /** @description A gate that cannot work as it should. */
    TroubledGate: {
      /** @description The gate. */
      gate: string;
      /** @description What is wrong. */
      problem: string;
    };
    /** @description A column that was united under the name of another. */
    United: {
      /** @description Name of the column there. */
      from: string;
      /** @description Name of the source. */
      source: string;
      /** @description Its name in the output. */
      to: string;
    };
    /** @description Files in a gate's drop folders that no pattern takes. */
    UntakenFiles: {
      /**
       * Format: int64
       * @description So many.
       */
      files: number;
      /** @description The gate. */
      gate: string;
    };
    /** @description How far something has come that is handed in. */
    UploadView: {
      became: components["schemas"]["HandedInFile"] | null;
      /**
       * Format: int64
       * @description So many there will be, where that was said.
       */
      bytes: number | null;
      /** @description Whether it is whole, and has its name. */
      complete: boolean;
      /** @description The gate. */
      gate: string;
      /** @description Its name, which only who hands it in knows. */
      name: string;
      /** @description The path below the drop folder. */
      path: string;
      /**
       * Format: int64
       * @description So many bytes are there, durably.
       */
      received: number;
    };
    /** @description A user who is to be added. */
    UserOrder: {
      /** @description The name by which they sign in. */
      name: string;
      /** @description Their first password. */
      password: string;
      /** @description What they may do. */
      role: components["schemas"]["Role"];
    };
    /** @description A user. */
    UserView: {
      /**
       * Format: date-time
       * @description When they were added.
       */
      made_at: string;
      /** @description By whom. */
      made_by: string;
      /** @description The name. */
      name: string;
      /** @description What they may do. */
      role: components["schemas"]["Role"];
      /**
       * Format: int64
       * @description Sessions that have not ended.
       */
      sessions: number;
      /**
       * Format: int64
       * @description Tokens that are theirs.
       */
      tokens: number;
      /**
       * Format: date-time
       * @description When they did something last, in a session that has not ended.
       */
      used_at: string | null;
    };
    /**
     * @description What the gate makes of a file in its drop folder.
     * @enum {string}
     */
    Verdict: "take" | "wait" | "leave" | "repeat" | "known" | "unreadable";
    /**
     * @description What a pass would do with a file.
     * @enum {string}
     */
    Will: "work" | "file" | "repeat" | "pass over" | "hold" | "wait";
    /** @enum {string} */
    WorkKind: "none" | "merge" | "load" | "run" | "unpack" | "deliver" | "edit" | "send" | "offer";
    /**
     * @description How a worker ended.
     * @enum {string}
     */
    WorkerEnd: "done" | "again" | "failed";
  };
  responses: never;
  parameters: never;
  requestBodies: never;
  headers: never;
  pathItems: never;
}
