//! Prints a few entries with their bits, and the exact entropy: `cargo run --example entries -- 20`.
fn main() -> Result<(), Box<dyn std::error::Error>> {
    let count = std::env::args().nth(1).map_or(Ok(5), |text| text.parse())?;
    let grammar = lalograph_demo::thornmere()?;
    let mut generator = lalograph_demo::Generator::new(&grammar, 1);
    for _ in 0..count {
        let entry = generator.next_entry();
        println!("{:6.1} bits  {}", entry.bits, entry.text);
    }
    let entropy = grammar.entropy();
    println!("{entropy:?}");
    println!("bits per word {:.4}, floor {:.4}", entropy.bits_per_word(), entropy.word_perplexity_floor());
    println!("distinct words {}", grammar.distinct_words().len());
    Ok(())
}
