//! Word tasks with known answers from the grammar: similar words and analogous pairs.

/// Words that occur in the same place of the same sentences, whatever else an entry says; no text distinguishes them.
const SAME_PLACE: [[&str; 2]; 16] = [
    ["orderly", "unbroken"],
    ["crawling", "trembling"],
    ["spilling", "pouring"],
    ["sleeves", "gloves"],
    ["newspaper", "sacking"],
    ["porch", "doorstep"],
    ["leat", "trough"],
    ["poplars", "birches"],
    ["plums", "apples"],
    ["quacking", "buzzing"],
    ["whirling", "cheerful"],
    ["westerly", "southerly"],
    ["dairy", "forge"],
    ["Pell", "Dunk"],
    ["larvae", "pupae"],
    ["railway", "churchyard"],
];

/// Words that have the same part in an entry, of another keeper, hive or season.
const SAME_PART: [[&str; 2]; 16] = [
    ["willow", "clover"],
    ["blackthorn", "heather"],
    ["dandelion", "ivy"],
    ["June", "September"],
    ["March", "December"],
    ["Maudry", "Hesper"],
    ["Tobbin", "Corwick"],
    ["Foxgate", "Candlefell"],
    ["Emberley", "Dovecroft"],
    ["Swallows", "Geese"],
    ["Swifts", "Robins"],
    ["pottered", "trundled"],
    ["whistled", "yawned"],
    ["meadow", "valley"],
    ["stream", "roofs"],
    ["blue", "red"],
];

/// Words that occur near each other, because one causes the other.
const TOGETHER: [[&str; 2]; 16] = [
    ["Foxgate", "orchard"],
    ["Pebblerow", "shore"],
    ["Candlefell", "heath"],
    ["Swallows", "meadow"],
    ["Geese", "valley"],
    ["Robins", "sill"],
    ["Maudry", "whistled"],
    ["Hesper", "pottered"],
    ["Iselle", "knelt"],
    ["clover", "nectar"],
    ["willow", "pollen"],
    ["July", "Hot"],
    ["December", "Frozen"],
    ["apples", "robbing"],
    ["syrup", "fed"],
    ["Wasps", "guards"],
];

/// Words that have nothing to do with each other.
const APART: [[&str; 2]; 16] = [
    ["orderly", "newspaper"],
    ["June", "brace"],
    ["sleeves", "heather"],
    ["Maudry", "syrup"],
    ["clover", "eighteen"],
    ["larvae", "westerly"],
    ["Foxgate", "gloves"],
    ["plums", "inspector"],
    ["valley", "frayed"],
    ["whirling", "sacking"],
    ["dairy", "pupae"],
    ["Robins", "kilos"],
    ["red", "poplars"],
    ["trough", "scowled"],
    ["buzzing", "August"],
    ["porch", "dandelion"],
];

/// Analogous pairs, by the name of their relation.
const RELATIONS: [(&str, &[[&str; 2]]); 4] = [
    (
        "keeper and greeting",
        &[
            ["Maudry", "whistled"],
            ["Tobbin", "inspected"],
            ["Iselle", "knelt"],
            ["Corwick", "trundled"],
            ["Hesper", "yawned"],
            ["Brannoch", "stomped"],
        ],
    ),
    (
        "hive and place",
        &[
            ["Foxgate", "orchard"],
            ["Emberley", "mill"],
            ["Dovecroft", "hazels"],
            ["Pebblerow", "shore"],
            ["Candlefell", "heath"],
        ],
    ),
    (
        "sign and its place",
        &[
            ["Swallows", "meadow"],
            ["Frogspawn", "stream"],
            ["Lambs", "slope"],
            ["Swifts", "roofs"],
            ["Hay", "lane"],
            ["Poppies", "barley"],
            ["Geese", "valley"],
            ["Mushrooms", "stumps"],
            ["Bonfires", "supper"],
            ["Robins", "sill"],
            ["Icicles", "gutter"],
            ["Snowdrops", "hedge"],
        ],
    ),
    ("sky and what it is like", &[["Bright", "mild"], ["Hot", "clear"], ["Frozen", "still"]]),
];

/// Word pairs with a similarity each, 0 to 3, as tab-separated values under a head.
pub fn similarity_file() -> String {
    let mut text = String::from("first\tsecond\tlikeness\n");
    for (similarity, pairs) in [(3, SAME_PLACE), (2, SAME_PART), (1, TOGETHER), (0, APART)] {
        for [a, b] in pairs {
            text.push_str(&format!("{a}\t{b}\t{similarity}\n"));
        }
    }
    text
}

/// Every two pairs of a relation as an analogy: four words on a line, under headings.
pub fn analogies_file() -> String {
    let mut text = String::new();
    for (name, pairs) in RELATIONS {
        text.push_str(&format!("# {name}\n"));
        for [a, b] in pairs {
            for [c, d] in pairs.iter().filter(|[c, _]| c != a) {
                text.push_str(&format!("{a}\t{b}\t{c}\t{d}\n"));
            }
        }
    }
    text
}

#[cfg(test)]
mod tests {
    use super::{analogies_file, similarity_file};
    use crate::thornmere;

    #[test]
    fn every_word_is_one_of_the_grammar() {
        let known = thornmere().unwrap().distinct_words();
        let is_known = |word: &str| known.binary_search(&word.to_lowercase()).is_ok();
        let (similarity, analogies) = (similarity_file(), analogies_file());
        for line in similarity.lines().skip(1) {
            let fields: Vec<&str> = line.split('\t').collect();
            assert!(fields.len() == 3 && is_known(fields[0]) && is_known(fields[1]), "{line}");
        }
        assert_eq!(similarity.lines().count(), 65);
        let questions = analogies.lines().filter(|line| !line.starts_with('#'));
        for line in questions.clone() {
            let words: Vec<&str> = line.split('\t').collect();
            assert!(words.len() == 4 && words.iter().all(|word| is_known(word)), "{line}");
        }
        assert_eq!(questions.count(), 30 + 20 + 132 + 6);
    }
}
