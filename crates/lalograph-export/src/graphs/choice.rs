//! The graphs that models have.

lalograph_net::choice! {
    /// A graph of an exported model.
    pub enum GraphChoice = Step {
        /// Of a language model: the next token after one token, with the states before and after it.
        Step = "step",
        /// Of a language model: the log-probability of every token of whole texts.
        Text = "text",
        /// Of a classifier: the probabilities of the classes.
        Classes = "classes",
        /// Of word vectors: the vectors of words.
        Lookup = "lookup",
        /// Of word vectors: the words whose vectors are most like given ones.
        Neighbours = "neighbours",
    }
}
