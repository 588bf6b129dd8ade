//! What Lua 5.4 and later have in common.

use super::chunk::Reader;
use super::operations::{Instructions, Operation, Question, first_operand};
use super::{Calls, Records};

/// Where 5.4 keeps what.
pub(super) const RECORDS: Records = Records {
    prototype_of_closure: 24,
    code_of_native_closure: 24,
    captured_count: 16,
    constant_count: 20,
    code_count: 24,
    inner_count: 32,
    first_line: 44,
    last_line: 48,
    constants: 56,
    code: 64,
    inner: 72,
    source: 112,
    shared_of_thread: 24,
    hooks_of_thread: 11,
    stack_of_thread: 48,
    call_of_thread: 32,
    function_of_call: 0,
    calls: Calls::Linked { previous: 16 },
    place_of_call: 32,
    text_of_string: 24,
};

const LOAD_CONSTANT: u32 = 3;
const LOAD_NIL: u32 = 8;
const TEST: u32 = 66;
const EQUAL_TO_CONSTANT: u32 = 60;
const GET_CAPTURED: u32 = 9;
const NOT: u32 = 51;
const JUMP: u32 = 56;
/// Bits that say what an instruction does, those of its first operand, and where the second one begins.
const OPERATION_BITS: u32 = 7;
const OPERAND_BITS: u32 = 8;
const SECOND: u32 = 16;
/// What is added to the distance of a jump, so that it is never negative.
const JUMP_OFFSET: usize = (1 << 24) - 1;

pub(super) const INSTRUCTIONS: Instructions = Instructions {
    operation_bits: OPERATION_BITS,
    second: SECOND,
    third: 24,
    second_mask: 0xff,
    third_mask: 0xff,
    constant: OPERATION_BITS + OPERAND_BITS,
    load_constant: LOAD_CONSTANT,
    moves: 0,
    get_global: None,
    get_captured: GET_CAPTURED,
    set_captured: 10,
    get_field_of_captured: 11,
    set_field_of_captured: 15,
    call: 68,
    harmless: &[
        // `OP_MOVE` to `OP_LOADNIL`, `OP_ADDI` to `OP_IDIVK`, `OP_ADD` to `OP_IDIV`, and `OP_EQ` to `OP_TESTSET`.
        0..=LOAD_NIL,
        21..=28,
        34..=40,
        57..=67,
        GET_CAPTURED..=GET_CAPTURED,
        NOT..=NOT,
        JUMP..=JUMP,
    ],
    fallbacks: Some(46..=48),
    asking: 3,
};

/// In the list of line steps: look the line up in the list of absolute lines (`ldebug.h`).
const ABSOLUTE: i8 = -0x80;
/// Instructions that leave scopes (`lopcodes.h`).
const CLOSE: u32 = 54;
const TO_BE_CLOSED: Operation = Operation(55);

/// Reads a constant of Lua 5.4 and later, the whole numbers among them by `whole`.
pub(super) fn constant<'a>(
    reader: &mut Reader<'a>,
    tag: u8,
    whole: impl FnOnce(&mut Reader<'a>) -> Option<()>,
) -> Option<Option<&'a [u8]>> {
    Some(match tag {
        0 | 1 | 17 => None,
        // Functions, which only bodies of this engine have there: nothing is written behind the tag.
        6 | 22 => None,
        3 => whole(reader).map(|()| None)?,
        19 => reader.bytes(8).map(|_| None)?,
        4 | 20 => Some(reader.string()?),
        _ => return None,
    })
}

/// Reads the lines of instructions as Lua 5.4 and later have them: by steps from one to the next, or by `absolute`, as pairs.
pub(super) fn lines_by_steps<'a>(
    reader: &mut Reader<'a>,
    first: u32,
    absolute: impl FnOnce(&mut Reader<'a>) -> Option<Vec<(usize, u32)>>,
) -> Option<Vec<u32>> {
    let count = reader.number()?;
    let steps = reader.bytes(count)?;
    let absolute = absolute(reader)?;
    let mut line = i64::from(first);
    let mut lines = Vec::with_capacity(count);
    for (instruction, step) in steps.iter().enumerate() {
        let step = i8::from_le_bytes([*step]);
        line = match step {
            ABSOLUTE => i64::from(absolute.iter().find(|(at, _)| *at == instruction)?.1),
            step => line + i64::from(step),
        };
        lines.push(u32::try_from(line).ok()?);
    }
    Some(lines)
}

/// The instruction that goes on at `to`, standing at `at`.
pub(super) fn jump_to(at: usize, to: usize) -> Option<u32> {
    let distance = (JUMP_OFFSET + to).checked_sub(at + 1)?;
    let distance = u32::try_from(distance).ok().filter(|distance| *distance < 1 << (32 - OPERATION_BITS))?;
    Some(JUMP | distance << OPERATION_BITS)
}

/// The instruction that closes the captured variables from this register on.
pub(super) fn close_from(register: u8) -> u32 {
    CLOSE | u32::from(register) << OPERATION_BITS
}

/// The register of the variable that an instruction marks as one to be closed when it leaves its scope.
pub(super) fn marks_closing(instruction: u32) -> Option<u32> {
    (Operation::of(instruction) == TO_BE_CLOSED).then(|| first_operand(instruction))
}

/// The instruction that jumps over `count` others.
pub(super) fn jump_over(count: usize) -> u32 {
    let distance = u32::try_from(JUMP_OFFSET + count).unwrap_or(u32::MAX);
    JUMP | distance << OPERATION_BITS
}

/// Makes the question whether a constant is nil, in front of a jump for where it is, one whether it is true: for what is nil or a
/// function, that is the same. `None` for other instructions.
pub(super) fn asked_whether_true(code: &[u32]) -> Option<Question> {
    let [nil, equal] = *code else { return None };
    let register = first_operand(nil);
    let loads_one = Operation::of(nil) == Operation(LOAD_NIL) && nil >> SECOND & 0xff == 0;
    let jumps_if_equal = equal >> (OPERATION_BITS + OPERAND_BITS) & 1 == 1;
    let is_question = Operation::of(equal) == Operation(EQUAL_TO_CONSTANT)
        && first_operand(equal) == register
        && loads_one
        && jumps_if_equal;
    let constant = equal >> SECOND & 0xff;
    let load = LOAD_CONSTANT | register << OPERATION_BITS | constant << (OPERATION_BITS + OPERAND_BITS);
    let instructions = [load, TEST | register << OPERATION_BITS];
    is_question.then_some(Question { constant: usize::try_from(constant).ok(), instructions })
}
