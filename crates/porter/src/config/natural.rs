//! The order in which people number: `A2` before `A10`, whatever the case of letters.

use std::cmp::Ordering;

/// Runs of digits are compared as numbers.
pub fn compare(a: &str, b: &str) -> Ordering {
    let (mut a, mut b) = (a, b);
    loop {
        let (one, two) = match (a.chars().next(), b.chars().next()) {
            (None, None) => return Ordering::Equal,
            (None, _) => return Ordering::Less,
            (_, None) => return Ordering::Greater,
            (Some(x), Some(y)) => (x, y),
        };
        if one.is_ascii_digit() && two.is_ascii_digit() {
            let (n, rest_a) = digits(a);
            let (m, rest_b) = digits(b);
            let order = n.len().cmp(&m.len()).then_with(|| n.cmp(m));
            if order != Ordering::Equal {
                return order;
            }
            (a, b) = (rest_a, rest_b);
            continue;
        }
        let order = one.to_lowercase().cmp(two.to_lowercase());
        if order != Ordering::Equal {
            return order;
        }
        (a, b) = (&a[one.len_utf8()..], &b[two.len_utf8()..]);
    }
}

/// The digits at the beginning, without zeros in front, and what follows.
fn digits(text: &str) -> (&str, &str) {
    let end = text.find(|c: char| !c.is_ascii_digit()).unwrap_or(text.len());
    (text[..end].trim_start_matches('0'), &text[end..])
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("A2.mov", "A10.mov", Ordering::Less)]
    #[case("a010.mov", "A10.MOV", Ordering::Equal)]
    #[case("A003_C012", "A003_C2", Ordering::Greater)]
    #[case("A", "A1", Ordering::Less)]
    #[case("B1", "A9", Ordering::Greater)]
    #[case("0", "00", Ordering::Equal)]
    #[case("9999999999999999999999999", "10000000000000000000000000", Ordering::Less)]
    #[case("\u{fc}1", "\u{fc}2", Ordering::Less)]
    fn names_stand_in_the_order_of_their_numbers(#[case] a: &str, #[case] b: &str, #[case] want: Ordering) {
        assert_eq!((compare(a, b), compare(b, a)), (want, want.reverse()));
    }
}
