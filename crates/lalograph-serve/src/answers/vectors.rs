//! Neighbours of words, and words in the plane.

use axum::Json;
use axum::extract::{Query, State};
use lalograph_vectors::map::principal;
use lalograph_vectors::sentence::{Weighing, sentence};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::fields::{check_count, check_text};
use crate::asked::{Asked, Named};
use crate::fault::Fault;
use crate::service::Shared;

/// Neighbours where no number is given, and at most.
const NEIGHBOURS: usize = 10;
const MOST: usize = 1000;
/// Words on the map, where no number is given and at most.
const MAPPED: usize = 200;
const MOST_MAPPED: usize = 2000;
/// The weight of frequent words in a sentence: a share of this much halves it.
const HALVING: f64 = 1e-3;
/// Terms of a sum.
const TERMS: usize = 50;

/// A request for neighbours: of a word, of a sum of words, or of a sentence.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct NeighboursRequest {
    /// A word.
    word: Option<String>,
    /// Words whose directions are added.
    #[serde(default)]
    plus: Vec<String>,
    /// Words whose directions are subtracted.
    #[serde(default)]
    minus: Vec<String>,
    /// A sentence instead of words.
    sentence: Option<String>,
    /// Number of neighbours (default: 10).
    count: Option<usize>,
}

/// Neighbours, the nearest first.
#[derive(Debug, Serialize, JsonSchema)]
pub(crate) struct NeighboursAnswer {
    model: String,
    neighbours: Vec<NeighbourWord>,
}

/// A word and its similarity.
#[derive(Debug, Serialize, JsonSchema)]
pub(crate) struct NeighbourWord {
    word: String,
    /// Cosine of the angle between the vectors.
    cosine: f64,
}

/// What the map shows.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct MapQuery {
    /// The number of words, the first of the file (default: 200).
    words: Option<usize>,
}

/// Words in the plane of the first two principal directions.
#[derive(Debug, Serialize, JsonSchema)]
pub(crate) struct MapAnswer {
    model: String,
    points: Vec<MapPoint>,
    /// Shares of the spread along the two directions.
    shares: Vec<f64>,
}

/// A word and its place.
#[derive(Debug, Serialize, JsonSchema)]
pub(crate) struct MapPoint {
    word: String,
    x: f64,
    y: f64,
}

/// `POST /models/{name}/neighbours`
pub(crate) async fn neighbours(
    State(service): State<Shared>,
    Named(name): Named,
    Asked(request): Asked<NeighboursRequest>,
) -> Result<Json<NeighboursAnswer>, Fault> {
    let vectors = service.shelf.vectors_of(&name)?;
    let count = check_count("count", request.count, NEIGHBOURS, MOST)?;
    let limits = service.settings.limits;
    let words = request.word.iter().chain(&request.plus).chain(&request.minus);
    words.clone().chain(&request.sentence).try_for_each(|text| check_text("word", text, &limits))?;
    let terms = words.count();
    match (&request.sentence, terms) {
        (None, 0) => return Err(Fault::field("word", "give `word`, `plus` and `minus`, or `sentence`")),
        (Some(_), 1..) => return Err(Fault::field("sentence", "give words or a sentence, not both")),
        (_, terms) if terms > TERMS => {
            return Err(Fault::field("plus", format!("{terms} words, and at most {TERMS} are added")));
        }
        _ => {}
    }
    let answer = service.pool.run(move |_| {
        let (file, table) = (&vectors.file, &vectors.file.table);
        let mut without: Vec<u32> = Vec::new();
        let vector = match &request.sentence {
            Some(text) => {
                let shares = file.shares();
                let weighing = Weighing::Frequency { a: HALVING };
                sentence(table, &file.words_of(text), weighing, shares.as_deref())?
            }
            None => {
                let plus = request.word.iter().chain(&request.plus).map(|word| (1.0, word));
                let mut sum = vec![0.0; table.dimensions()];
                for (sign, word) in plus.chain(request.minus.iter().map(|word| (-1.0, word))) {
                    table.add_direction(word, sign, &mut sum)?;
                    without.extend(table.row(word));
                }
                sum
            }
        };
        let found = table.nearest(&vector, count, &without);
        let neighbours = found.iter().map(|neighbour| NeighbourWord {
            word: table.word(neighbour.row).to_owned(),
            // What single precision is worth.
            cosine: (f64::from(neighbour.cosine) * 1e6).round() / 1e6,
        });
        Ok(NeighboursAnswer { neighbours: neighbours.collect(), model: name })
    });
    Ok(Json(answer.await?))
}

/// `GET /models/{name}/map`
pub(crate) async fn map(
    State(service): State<Shared>,
    Named(name): Named,
    query: Result<Query<MapQuery>, axum::extract::rejection::QueryRejection>,
) -> Result<Json<MapAnswer>, Fault> {
    let Query(query) = query.map_err(|error| Fault::field("words", error.body_text()))?;
    let vectors = service.shelf.vectors_of(&name)?;
    let words = check_count("words", query.words, MAPPED, MOST_MAPPED)?;
    let answer = service.pool.run(move |_| {
        let table = &vectors.file.table;
        // The plane is that of the words of a map of full size, so that a word is at one place on every map.
        let known = table.words().len().min(MOST_MAPPED);
        let plane = match vectors.map.get() {
            Some(plane) => plane,
            None => {
                let rows: Vec<&[f32]> = (0..known as u32).map(|row| table.direction(row)).collect();
                let plane = principal(&rows, 1)?;
                vectors.map.get_or_init(|| plane)
            }
        };
        let point =
            |(word, place): (&String, &[f64; 2])| MapPoint { word: word.clone(), x: place[0], y: place[1] };
        Ok(MapAnswer {
            points: table.words().iter().zip(&plane.points).take(words).map(point).collect(),
            shares: plane.shares.map_or_else(Vec::new, |shares| shares.to_vec()),
            model: name,
        })
    });
    Ok(Json(answer.await?))
}
