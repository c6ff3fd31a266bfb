//! Models on their way out of the program.

use std::path::PathBuf;

use clap::Args;
use lalograph_export::{GraphChoice, Precision};

use super::choice::choice;

lalograph_net::choice! {
    /// What a model is exported as.
    pub(crate) enum ExportForm = Onnx {
        /// Graphs of ONNX, the open exchange standard for networks.
        Onnx = "onnx",
        /// The tokens as tab-separated text and the weights as one NumPy archive (.npz).
        Tables = "tables",
    }
}

/// `export`.
#[derive(Debug, Args)]
#[command(
    after_help = "Examples:\n  lalograph export thornmere/runs/demo --output bees.onnx --readme bees.md\n  lalograph export thornmere/runs/demo --graph step --precision eight-bit --text thornmere/diaries.csv --output bees-small.onnx\n  lalograph export thornmere/runs/demo --form tables --output bees.npz"
)]
pub(crate) struct ExportArgs {
    /// Model file, run or word vectors.
    #[arg(value_name = "MODEL")]
    pub(crate) model: PathBuf,
    /// Form of the exported files (default: onnx).
    #[arg(long, value_parser = choice::<ExportForm>(), value_name = "FORM")]
    pub(crate) form: Option<ExportForm>,
    /// Write to FILE. Several graphs go to one file each, with the name of the graph before the extension: bees.step.onnx, bees.text.onnx. The
    /// tokens of `tables` go to FILE with the extension .tsv, the merges of byte pairs to .merges.tsv.
    #[arg(long, short, value_name = "FILE", required = true)]
    pub(crate) output: PathBuf,
    /// Export this graph only (default: all graphs of the model).
    #[arg(long, value_parser = choice::<GraphChoice>(), value_name = "GRAPH", help_heading = "ONNX")]
    pub(crate) graph: Option<GraphChoice>,
    /// Version of the operators of ONNX, 17 to 22 (default: 17).
    #[arg(long, value_name = "N", help_heading = "ONNX")]
    pub(crate) opset: Option<u32>,
    /// Bits of the weights (default: single).
    #[arg(long, value_parser = choice::<Precision>(), value_name = "BITS", help_heading = "ONNX")]
    pub(crate) precision: Option<Precision>,
    /// Text to measure the effect of fewer bits on, read as the text of the model's run was; can be repeated (default: no measurement).
    #[arg(long, value_name = "PATH", requires = "precision", help_heading = "ONNX")]
    pub(crate) text: Vec<PathBuf>,
    /// Licence that the exported file names, such as CC0-1.0 (default: none).
    #[arg(long, value_name = "NAME", help_heading = "ONNX")]
    pub(crate) licence: Option<String>,
    /// Write a page to FILE: how a text becomes indices without Lalograph, with worked examples (default: none).
    #[arg(long, value_name = "FILE")]
    pub(crate) readme: Option<PathBuf>,
    /// Replace existing files.
    #[arg(long)]
    pub(crate) force: bool,
    /// Print one JSON document.
    #[arg(long)]
    pub(crate) json: bool,
}

/// `import`.
#[derive(Debug, Args)]
#[command(
    after_help = "Examples:\n  lalograph import weights.safetensors --plan plan.toml --vocabulary vocabulary.json --output model.safetensors\n  lalograph import weights.safetensors --plan plan.toml --vocabulary vocabulary.json --classes bad,good --output model.safetensors"
)]
pub(crate) struct ImportArgs {
    /// Weights: a safetensors file whose tensors have the names and shapes of a model file.
    #[arg(value_name = "WEIGHTS")]
    pub(crate) weights: PathBuf,
    /// Plan of the model: its [model] section, and [classifier] for a classifier.
    #[arg(long, value_name = "FILE")]
    pub(crate) plan: PathBuf,
    /// Vocabulary of the model.
    #[arg(long, value_name = "FILE")]
    pub(crate) vocabulary: PathBuf,
    /// Labels of the classes of a classifier, in ascending order (default: none; needed for a classifier).
    #[arg(long, value_name = "LABEL,LABEL,...", value_delimiter = ',')]
    pub(crate) classes: Vec<String>,
    /// Set any value of the plan; can be repeated.
    #[arg(long = "set", value_name = "SECTION.KEY=VALUE")]
    pub(crate) settings: Vec<String>,
    /// Write the model to FILE.
    #[arg(long, short, value_name = "FILE")]
    pub(crate) output: PathBuf,
    /// Replace an existing file.
    #[arg(long)]
    pub(crate) force: bool,
    /// Print one JSON document.
    #[arg(long)]
    pub(crate) json: bool,
}
