//! Functions of numbers.

use kyanite_tree::{Decimal, DecimalError, Value};

use super::{Call, CallError, Outcome, ParameterTypes, Run, Signature, number_fault, takes};
use crate::types::Type;

pub(super) const TABLE: &[Signature] = &[
    Signature {
        name: "round",
        parameters: &[
            takes("number", ParameterTypes::NUMBER),
            takes("digits", ParameterTypes::NUMBER),
        ],
        required: 1,
        repeats: false,
        result: Type::Number,
        summary: "Rounded to a number of digits after the point, 0 unless given; a half goes away from zero.",
        example: ("round(2.345, 2)", "2.35"),
        run: Run::Values(|call| {
            let digits = match call.argument(1).and_then(Value::as_number) {
                None => 0,
                Some(digits) => {
                    digits.as_integer().filter(|digits| digits.unsigned_abs() <= 1000).ok_or_else(
                        || CallError::new(1, "the digits are no whole number from -1000 to 1000"),
                    )?
                }
            };
            rounded(call, |number| number.round(digits))
        }),
    },
    Signature {
        name: "floor",
        parameters: &[takes("number", ParameterTypes::NUMBER)],
        required: 1,
        repeats: false,
        result: Type::Number,
        summary: "The largest whole number that is not greater.",
        example: ("floor(-1.5)", "-2"),
        run: Run::Values(|call| rounded(call, Decimal::floor)),
    },
    Signature {
        name: "ceiling",
        parameters: &[takes("number", ParameterTypes::NUMBER)],
        required: 1,
        repeats: false,
        result: Type::Number,
        summary: "The smallest whole number that is not less.",
        example: ("ceiling(-1.5)", "-1"),
        run: Run::Values(|call| rounded(call, Decimal::ceiling)),
    },
    Signature {
        name: "abs",
        parameters: &[takes("number", ParameterTypes::NUMBER)],
        required: 1,
        repeats: false,
        result: Type::Number,
        summary: "The number without its sign.",
        example: ("abs(-1.5)", "1.5"),
        run: Run::Values(|call| rounded(call, |number| Ok(number.abs()))),
    },
    Signature {
        name: "number",
        parameters: &[takes("value", ParameterTypes::TEXT.or(ParameterTypes::NUMBER))],
        required: 1,
        repeats: false,
        result: Type::Number,
        summary: "The number that a text spells: sign, digits, fraction, exponent; blanks around it are ignored.",
        example: ("number(\" 007.50 \")", "7.5"),
        run: Run::Values(number),
    },
];

fn rounded<'a>(
    call: &Call<'_, 'a>,
    round: impl Fn(&Decimal) -> Result<Decimal, DecimalError>,
) -> Outcome<'a> {
    let rounded = round(&call.number(0)?).map_err(|error| number_fault(0, error))?;
    Ok(Some(call.arena.number(&rounded)))
}

fn number<'a>(call: &Call<'_, 'a>) -> Outcome<'a> {
    let Some((origin, text)) = call.argument(0).and_then(|v| Some((v.origin(), v.as_text()?)))
    else {
        return Ok(call.argument(0));
    };
    match Decimal::spelled(text) {
        Some(spelled) => {
            Ok(call.arena.number(&spelled).as_number().map(|number| Value::Number(origin, number)))
        }
        None => Err(CallError::new(0, format!("the text {text:?} does not spell a number"))
            .advise("test it first with match(), or take the unit and the blanks away")),
    }
}
