//! The command line of `merge` and `sample`.

use std::path::PathBuf;

use clap::{Args, ValueEnum};

/// How tables are read; what is not said is found by looking.
#[derive(Debug, Args)]
#[command(next_help_heading = "Reading")]
pub struct Dialect {
    /// What parts the fields of delimited text, such as `;` or `\t`
    #[arg(long, value_name = "CHARACTER")]
    pub delimiter: Option<String>,
    /// What stands around fields, or `none`
    #[arg(long, value_name = "CHARACTER")]
    pub quote: Option<String>,
    /// Encoding of text, such as utf-8, utf-16le, windows-1252, shift_jis or gb18030
    #[arg(long, value_name = "NAME")]
    pub encoding: Option<String>,
    /// Where the names of the columns stand: first, none, or the number of a row
    #[arg(long, value_name = "WHERE", default_value = "first")]
    pub header: String,
    /// Lines before the header that are not looked at
    #[arg(long, value_name = "LINES", default_value_t = 0)]
    pub preamble: usize,
    /// Lines that begin with it are left out
    #[arg(long, value_name = "CHARACTER")]
    pub comment: Option<String>,
    /// Fill records that are shorter than the header
    #[arg(long)]
    pub ragged: bool,
    /// Sheets of workbooks: first, all, a number, or a name with `*`; several times
    #[arg(long = "sheet", value_name = "WHICH")]
    pub sheets: Vec<String>,
    /// Read hidden sheets too
    #[arg(long)]
    pub hidden: bool,
    /// Part of a sheet, such as B3:F200 or B3:
    #[arg(long, value_name = "CELLS")]
    pub range: Option<String>,
    /// Put the value of merged cells into all of them
    #[arg(long)]
    pub fill_merged: bool,
}

/// What a merge does when its output exists.
#[derive(Debug, Clone, Copy, ValueEnum)]
pub enum IfThere {
    /// Give up.
    Fail,
    /// Replace it.
    Replace,
    /// Add the rows behind those that are there.
    Append,
    /// Give the new one a number.
    Number,
}

/// What is done with rows of which a value does not fit its column.
#[derive(Debug, Clone, Copy, ValueEnum)]
pub enum Misfits {
    /// Refuse the source.
    Hold,
    /// Write the row to a file beside the output.
    SetAside,
    /// Empty the value.
    Empty,
}

/// How names of columns are held to be the same.
#[derive(Debug, Clone, Copy, ValueEnum)]
pub enum Names {
    /// Letter by letter.
    Exact,
    /// Whatever the letter case and the space around them.
    Plain,
    /// Without space, hyphens and underscores too.
    Loose,
}

/// `merge`.
#[derive(Debug, Args)]
pub struct Merge {
    /// Files, and folders of which all tables are taken
    #[arg(required = true, value_name = "FILE|FOLDER")]
    pub sources: Vec<PathBuf>,
    /// The output; with fields in it, one for each of their values
    #[arg(long, short, value_name = "OUTPUT")]
    pub output: String,
    /// Only files of folders that match; its fields can be used in names
    #[arg(long, value_name = "PATTERN")]
    pub take: Option<String>,
    /// Look into the folders below too
    #[arg(long)]
    pub subfolders: bool,
    /// Order of the sources: name, oldest, newest, or a field such as `<day>`
    #[arg(long, value_name = "ORDER", default_value = "name")]
    pub order: String,
    /// One output for each value of this template, put before the output's ending
    #[arg(long, value_name = "TEMPLATE")]
    pub by: Option<String>,
    /// The columns to take, in order, separated by commas
    #[arg(long, value_name = "NAMES", value_delimiter = ',')]
    pub columns: Vec<String>,
    /// Types and rules of the columns: a Table Schema
    #[arg(long, value_name = "FILE")]
    pub schema: Option<PathBuf>,
    /// When names of columns are the same
    #[arg(long, value_enum, default_value_t = Names::Plain)]
    pub names: Names,
    /// A column to add: NAME=TEMPLATE; several times
    #[arg(long, value_name = "NAME=TEMPLATE")]
    pub add: Vec<String>,
    /// Texts that count as nothing, separated by commas
    #[arg(long, value_name = "TEXTS", value_delimiter = ',')]
    pub nothing: Vec<String>,
    /// What is done with rows that do not fit
    #[arg(long, value_enum, default_value_t = Misfits::Hold)]
    pub misfits: Misfits,
    /// Columns of which a total is made, separated by commas
    #[arg(long, value_name = "NAMES", value_delimiter = ',')]
    pub totals: Vec<String>,
    /// Leave out rows that were there already: by all columns, or by these
    #[arg(long, value_name = "NAMES", num_args = 0.., value_delimiter = ',')]
    pub once: Option<Vec<String>>,
    /// A sheet for each source, named by this template
    #[arg(long, value_name = "TEMPLATE", num_args = 0..=1, default_missing_value = "<stem>")]
    pub sheet_each: Option<String>,
    /// Write texts to workbooks and Parquet as texts, whatever they look like
    #[arg(long)]
    pub as_text: bool,
    /// What is done when the output exists
    #[arg(long, value_enum, default_value_t = IfThere::Fail)]
    pub exists: IfThere,
    /// Leave faulty sources out instead of giving up
    #[arg(long)]
    pub leave_faulty: bool,
    /// Print the accounts as JSON
    #[arg(long)]
    pub json: bool,
    #[command(flatten)]
    pub dialect: Dialect,
}

/// `sample`.
#[derive(Debug, Args)]
pub struct Sample {
    /// The file
    #[arg(value_name = "FILE")]
    pub file: PathBuf,
    /// Rows of each table that are looked at; 0 for all
    #[arg(long, value_name = "COUNT", default_value_t = 100_000)]
    pub rows: u64,
    /// Print a gate for such files
    #[arg(long, conflicts_with_all = ["schema", "json"])]
    pub toml: bool,
    /// Print a Table Schema of the columns
    #[arg(long, conflicts_with = "json")]
    pub schema: bool,
    /// Print JSON
    #[arg(long)]
    pub json: bool,
    #[command(flatten)]
    pub dialect: Dialect,
}
