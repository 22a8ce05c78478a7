//! Whether an instruction of x86 reads or writes memory, from its first bytes.
//!
//! Source: the opcode maps in the processors' public manuals (prefixes, opcode, ModRM). Only forms whose direction is plain are
//! told; everything else is unknown.

use super::Access;

/// What the instruction at the start of `bytes` does with the memory that its operand names.
pub(super) fn access(bytes: &[u8]) -> Option<Access> {
    // Prefixes: operand and address size, segment, lock, repeat, and REX.
    let start =
        bytes.iter().position(|byte| !matches!(byte, 0x26 | 0x2E | 0x36 | 0x3E | 0x64..=0x67 | 0xF0 | 0xF2 | 0xF3))?;
    let rest = bytes.get(start..)?;
    let rest = if rest.first().is_some_and(|byte| (0x40..=0x4F).contains(byte)) { rest.get(1..)? } else { rest };
    let (opcode, modrm) = (*rest.first()?, rest.get(1).copied());
    let register = modrm.map(|byte| (byte >> 3) & 7);
    // Operand in a register: no memory is touched by it.
    let to_memory = |modrm: Option<u8>| modrm.is_some_and(|byte| byte >> 6 != 3);
    let of = |access: Access, modrm: Option<u8>| to_memory(modrm).then_some(access);
    match opcode {
        // Arithmetic with memory as target: it reads first, and that is what fails; on memory that may only be read, the write.
        0x88 | 0x89 | 0xC6 | 0xC7 | 0x8C => of(Access::Write, modrm),
        0x00 | 0x01 | 0x08 | 0x09 | 0x10 | 0x11 | 0x18 | 0x19 | 0x20 | 0x21 | 0x28 | 0x29 | 0x30 | 0x31 | 0x86
        | 0x87 => of(Access::Write, modrm),
        0x80 | 0x81 | 0x83 => of(if register == Some(7) { Access::Read } else { Access::Write }, modrm),
        0xFE => of(Access::Write, modrm),
        0xFF => match register? {
            0 | 1 => of(Access::Write, modrm),
            _ => of(Access::Read, modrm),
        },
        0x8A
        | 0x8B
        | 0x8E
        | 0x63
        | 0x02
        | 0x03
        | 0x0A
        | 0x0B
        | 0x12
        | 0x13
        | 0x1A
        | 0x1B
        | 0x22
        | 0x23
        | 0x2A
        | 0x2B
        | 0x32
        | 0x33
        | 0x38..=0x3B
        | 0x84
        | 0x85
        | 0x69
        | 0x6B => of(Access::Read, modrm),
        0xF6 | 0xF7 => of(if matches!(register, Some(2 | 3)) { Access::Write } else { Access::Read }, modrm),
        0xAA | 0xAB => Some(Access::Write),
        0xAC..=0xAF | 0xA6 | 0xA7 => Some(Access::Read),
        0x0F => {
            let modrm = rest.get(2).copied();
            match modrm.and(rest.get(1).copied())? {
                0x11 | 0x13 | 0x17 | 0x29 | 0x2B | 0x7F | 0xD6 | 0xE7 | 0xC0 | 0xC1 | 0xB0 | 0xB1 | 0xC3 => {
                    of(Access::Write, modrm)
                }
                0x10
                | 0x12
                | 0x16
                | 0x28
                | 0x2A
                | 0x2C..=0x2F
                | 0x40..=0x6F
                | 0xAF
                | 0xB6
                | 0xB7
                | 0xBE
                | 0xBF
                | 0xD0..=0xD5
                | 0xEF
                | 0xFE => of(Access::Read, modrm),
                _ => None,
            }
        }
        _ => None,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn directions() {
        for (bytes, wanted) in [
            (&[0xC7, 0x00, 0x01, 0, 0, 0][..], Some(Access::Write)), // mov dword [rax], 1
            (&[0x48, 0x8B, 0x40, 0x10], Some(Access::Read)),         // mov rax, [rax+0x10]
            (&[0x8B, 0xC3], None),                                   // mov eax, ebx
            (&[0x48, 0x89, 0x18], Some(Access::Write)),              // mov [rax], rbx
            (&[0x0F, 0xB6, 0x00], Some(Access::Read)),               // movzx eax, byte [rax]
            (&[0x66, 0x0F, 0x7F, 0x00], Some(Access::Write)),        // movdqa [rax], xmm0
            (&[0xF3, 0xAA], Some(Access::Write)),                    // rep stosb
            (&[0x83, 0x38, 0x00], Some(Access::Read)),               // cmp dword [rax], 0
            (&[0x0F, 0x0B], None),                                   // ud2
            (&[], None),
        ] {
            assert_eq!(access(bytes), wanted, "{bytes:x?}");
        }
    }
}
