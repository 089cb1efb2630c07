//! The arguments that say how inputs are read.

use clap::{ArgAction, Args};
use kyanite_formats::Format;
use kyanite_formats::encoding::Charset;

use super::{charset, delimiter, header, size};

/// How inputs are read.
#[derive(Args, Debug)]
#[command(next_help_heading = "Input")]
pub struct Reading {
    /// The format of the inputs: json, jsonl, json-seq, yaml, xml, toml, csv, tsv or text [default: by
    /// extension, then by content]
    #[arg(short, long, value_name = "FORMAT")]
    pub from: Option<Format>,
    /// The character between the cells of CSV [default: a comma, or a tab for tsv]
    #[arg(long, value_name = "CHARACTER", value_parser = delimiter)]
    pub delimiter: Option<u8>,
    /// The first row of CSV is data, not names: rows are lists
    #[arg(long)]
    pub unnamed: bool,
    /// The encoding of the inputs, such as windows-1252 or Shift_JIS [default: as XML declares it, by a
    /// byte order mark, else UTF-8]
    #[arg(long, value_name = "NAME", value_parser = charset)]
    pub encoding: Option<Charset>,
    /// Skip broken records and repair broken XML, and say what was done
    #[arg(long)]
    pub lenient: bool,
    /// With --lenient: say each repair, not only each sort of them
    #[arg(long)]
    pub repairs: bool,
    /// Leave the prefixes and namespaces of XML out
    #[arg(long)]
    pub drop_namespaces: bool,
    /// The document is a text that holds another document: read that one
    #[arg(long)]
    pub unwrap: bool,
    /// The deepest nesting that is read
    #[arg(long, value_name = "N", default_value_t = 512, value_parser = clap::value_parser!(u32).range(1..=1_000_000))]
    pub depth: u32,
    /// The most bytes that the entities of XML may expand to
    #[arg(long, value_name = "SIZE", default_value = "16MB", value_parser = size)]
    pub expansion: u64,
    /// The most values that the aliases of YAML may stand for; 64 bytes of text count as one
    #[arg(long, value_name = "N", default_value_t = 1_000_000)]
    pub aliases: u32,
    /// The most bytes of a document that is held whole
    #[arg(long, value_name = "SIZE", default_value = "4GB", value_parser = size)]
    pub size_limit: u64,
    /// Send a header field along to http(s) servers
    #[arg(long = "header", value_name = "NAME: VALUE", value_parser = header, action = ArgAction::Append)]
    pub headers: Vec<(String, String)>,
    /// Seconds that an http(s) server may take
    #[arg(long, value_name = "SECONDS", default_value_t = 30, value_parser = clap::value_parser!(u32).range(1..))]
    pub timeout: u32,
}
