//! The arguments of `kyanite schema`.

use std::path::PathBuf;

use clap::{Args, Subcommand, ValueEnum, ValueHint};

use super::DraftName;
use super::validate::mapping;

/// `kyanite schema`.
#[derive(Subcommand, Debug)]
pub enum SchemaCommand {
    /// Show all that is wrong with schemas
    #[command(after_help = "\
Examples:
  kyanite schema check schemas/booking.json
  kyanite schema check schemas/manifest.xsd schemas/notices.xsd schemas/manifest.sch

Exit status: 0 all are schemas, 1 one is none, 2 one cannot be read.")]
    Check {
        /// Schemas: JSON Schemas, XML Schemas, Schematron schemas
        #[arg(value_name = "SCHEMA", required = true, value_hint = ValueHint::FilePath)]
        schemas: Vec<String>,
        /// What they refer to, and how they are read.
        #[command(flatten)]
        references: SchemaReferences,
    },
    /// Make a JSON Schema of an XML Schema, for its documents in the record view
    #[command(after_help = "\
Examples:
  kyanite schema translate schemas/manifest.xsd --to json-schema
  kyanite schema translate schemas/manifest.xsd --drop-namespaces -o manifest.json

The JSON Schema is one of what convert --schema makes of a document. What it cannot say is told, with its place.
Exit status: 0 done, 1 something is lost and --strict is given, 2 the schema is none.")]
    Translate(Translate),
    /// Make up a document that is valid
    Sample(SampleOfSchema),
}

/// `kyanite schema translate`.
#[derive(Args, Debug)]
pub struct Translate {
    /// XML Schemas, of which several are one
    #[arg(value_name = "SCHEMA", required = true, value_hint = ValueHint::FilePath)]
    pub schemas: Vec<String>,
    /// What is made
    #[arg(short, long, value_name = "LANGUAGE", default_value = "json-schema")]
    pub to: SchemaLanguage,
    /// Call members by their names without prefixes, as convert --drop-namespaces does
    #[arg(long)]
    pub drop_namespaces: bool,
    /// Write nothing if something is lost
    #[arg(long)]
    pub strict: bool,
    /// Write to a file
    #[arg(short, long, value_name = "FILE", value_hint = ValueHint::FilePath)]
    pub output: Option<PathBuf>,
    /// What they refer to, and how they are read.
    #[command(flatten)]
    pub references: SchemaReferences,
}

/// `kyanite schema sample`.
#[derive(Args, Debug)]
#[command(after_help = "\
Examples:
  kyanite schema sample schemas/booking.json
  kyanite schema sample schemas/manifest.xsd --minimal
  kyanite schema sample schemas/manifest.xsd --root vessel --seed 7 -o vessel.xml

Exit status: 0 done, 2 the schema is none, or no valid document was found.")]
pub struct SampleOfSchema {
    /// A JSON Schema, or XML Schemas that are one
    #[arg(value_name = "SCHEMA", required = true, value_hint = ValueHint::FilePath)]
    pub schemas: Vec<String>,
    /// Make only what has to be there
    #[arg(long)]
    pub minimal: bool,
    /// Another number gives another sample, the same number the same one
    #[arg(long, value_name = "N", default_value_t = 1)]
    pub seed: u64,
    /// The root element, of an XML Schema that has several
    #[arg(long, value_name = "NAME")]
    pub root: Option<String>,
    /// Write to a file
    #[arg(short, long, value_name = "FILE", value_hint = ValueHint::FilePath)]
    pub output: Option<PathBuf>,
    /// What they refer to, and how they are read.
    #[command(flatten)]
    pub references: SchemaReferences,
}

/// What schemas refer to, and how they are read.
#[derive(Args, Debug)]
pub struct SchemaReferences {
    /// The draft of JSON Schemas without $schema [default: 2020-12]
    #[arg(long, value_name = "DRAFT")]
    pub draft: Option<DraftName>,
    /// Which file a URI in schemas means, or which folder one that ends in /; nothing is fetched
    #[arg(long = "schema-map", value_name = "URI=FILE", value_parser = mapping)]
    pub mapped: Vec<(String, String)>,
    /// A catalog of URIs (OASIS XML Catalogs)
    #[arg(long = "catalog", value_name = "FILE", value_hint = ValueHint::FilePath)]
    pub catalogs: Vec<String>,
}

/// A schema language that others are translated to.
#[derive(ValueEnum, Clone, Copy, PartialEq, Eq, Debug)]
pub enum SchemaLanguage {
    /// JSON Schema, draft 2020-12
    JsonSchema,
}
