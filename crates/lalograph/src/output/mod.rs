//! Output: the screen, numbers, tables, progress, charts.

pub(crate) mod chart;
pub(crate) mod coverage_chart;
pub(crate) mod curve;
pub(crate) mod cut;
pub(crate) mod decision_charts;
pub(crate) mod decoding_charts;
pub(crate) mod drawing;
pub(crate) mod flow_chart;
pub(crate) mod harmless;
pub(crate) mod line;
pub(crate) mod live;
pub(crate) mod loss_scale;
pub(crate) mod number;
pub(crate) mod outline;
pub(crate) mod page;
pub(crate) mod palette;
pub(crate) mod progress;
pub(crate) mod run_charts;
pub(crate) mod scale_chart;
pub(crate) mod screen;
pub(crate) mod survey_charts;
pub(crate) mod survey_text;
pub(crate) mod table;
pub(crate) mod training;
pub(crate) mod word_map;
pub(crate) mod wrap;
