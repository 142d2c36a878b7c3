#include "textflag.h"

// What looks a byte up by its low half: white space, and marks with bit 0x20 set.
DATA ·whiteOf+0(SB)/8, $0x0264710064646420
DATA ·whiteOf+8(SB)/8, $0x64640d64700a0900
DATA ·whiteOf+16(SB)/8, $0x0264710064646420
DATA ·whiteOf+24(SB)/8, $0x64640d64700a0900
GLOBL ·whiteOf(SB), RODATA|NOPTR, $32
DATA ·markOf+0(SB)/8, $0x0000000000000000
DATA ·markOf+8(SB)/8, $0x00007d2c7b3a0000
DATA ·markOf+16(SB)/8, $0x0000000000000000
DATA ·markOf+24(SB)/8, $0x00007d2c7b3a0000
GLOBL ·markOf(SB), RODATA|NOPTR, $32
DATA ·byteOf+0(SB)/1, $0x22 // quote
DATA ·byteOf+1(SB)/1, $0x5c // backslash
DATA ·byteOf+2(SB)/1, $0x20 // what makes a bracket a brace
DATA ·byteOf+3(SB)/1, $0x1f // the last control character
GLOBL ·byteOf(SB), RODATA|NOPTR, $4

// What brackets of both kinds are with bit 0x20 set, and the other marks.
#define FOUR(name, bytes) \
	DATA name+0(SB)/8, bytes  \
	DATA name+8(SB)/8, bytes  \
	DATA name+16(SB)/8, bytes \
	DATA name+24(SB)/8, bytes \
	GLOBL name(SB), RODATA|NOPTR, $32

// What a byte may be behind a backslash, by its halves (1, 2, 4, 8: which, so that the halves fit), and whether it is a
// hexadecimal digit (16, 32).
DATA ·escapeLow+0(SB)/8, $0x10343838303d3010
DATA ·escapeLow+8(SB)/8, $0x0104000200001010
DATA ·escapeLow+16(SB)/8, $0x10343838303d3010
DATA ·escapeLow+24(SB)/8, $0x0104000200001010
GLOBL ·escapeLow(SB), RODATA|NOPTR, $32
DATA ·escapeHigh+0(SB)/8, $0x0824022010010000
DATA ·escapeHigh+8(SB)/8, $0x0000000000000000
DATA ·escapeHigh+16(SB)/8, $0x0824022010010000
DATA ·escapeHigh+24(SB)/8, $0x0000000000000000
GLOBL ·escapeHigh(SB), RODATA|NOPTR, $32
FOUR(·lowOf, $0x0f0f0f0f0f0f0f0f)
FOUR(·hexOf, $0x3030303030303030)
FOUR(·uOf, $0x7575757575757575)
FOUR(·openOf, $0x7b7b7b7b7b7b7b7b)
FOUR(·closeOf, $0x7d7d7d7d7d7d7d7d)
FOUR(·colonOf, $0x3a3a3a3a3a3a3a3a)
FOUR(·commaOf, $0x2c2c2c2c2c2c2c2c)

// EQUAL puts into OUT a bit for each byte of A and B that equals C's. It uses BX and Y9.
#define EQUAL(A, B, C, OUT) \
	VPCMPEQB  C, A, Y9  \
	VPMOVMSKB Y9, OUT   \
	VPCMPEQB  C, B, Y9  \
	VPMOVMSKB Y9, BX    \
	SHLQ      $32, BX   \
	ORQ       BX, OUT

// APPEND appends those bits of AX where a token begins (R15) to the bits of the tokens before (CX of them), at DX. R12
// is the complement of CX. It uses BX.
#define APPEND(off) \
	PEXTQ R15, AX, AX     \
	SHLXQ CX, AX, BX      \
	ORQ   BX, off(DX)     \
	SHRQ  $1, AX          \
	SHRXQ R12, AX, AX     \
	MOVQ  AX, (off+64)(DX)

// ESCAPED puts into OUT what the bytes of IN are behind a backslash. It uses Y9 and Y10.
#define ESCAPED(IN, OUT) \
	VPSRLW  $4, IN, Y9             \
	VPAND   ·lowOf(SB), Y9, Y9     \
	VMOVDQU ·escapeHigh(SB), Y10   \
	VPSHUFB Y9, Y10, Y9            \
	VMOVDQU ·escapeLow(SB), Y10    \
	VPSHUFB IN, Y10, OUT           \
	VPAND   Y9, OUT, OUT

// NEITHER puts into AX a bit for each byte of Y14 and Y15 that has none of C's bits. Y10 is 0. It uses BX and Y9.
#define NEITHER(C) \
	VPAND     C, Y14, Y9    \
	VPCMPEQB  Y10, Y9, Y9   \
	VPMOVMSKB Y9, AX        \
	VPAND     C, Y15, Y9    \
	VPCMPEQB  Y10, Y9, Y9   \
	VPMOVMSKB Y9, BX        \
	SHLQ      $32, BX       \
	ORQ       BX, AX

// WRONG notes that AX should be 0. It uses Y9.
#define WRONG \
	VMOVQ AX, X9        \
	VPOR  Y9, Y13, Y13

// PLACE writes where the lowest bit of DX stands and takes it off.
#define PLACE(off) \
	TZCNTQ DX, AX       \
	ADDL   R13, AX      \
	MOVL   AX, off(DI)  \
	BLSRQ  DX, DX

// func indexWide(p *byte, size int, words *blockWord, at *uint32, tokens *tokenWord, c *carry)
TEXT ·indexWide(SB), NOSPLIT, $24-48
	MOVQ p+0(FP), SI
	MOVQ size+8(FP), CX
	ADDQ SI, CX
	MOVQ CX, end-8(SP)
	MOVQ words+16(FP), R8
	MOVQ c+40(FP), AX
	MOVQ 0(AX), R9   // inside
	MOVQ 8(AX), R10  // token
	MOVQ 16(AX), R11 // skip
	MOVQ 48(AX), R13 // base
	MOVQ 56(AX), CX  // tokens
	MOVQ 64(AX), BX
	MOVQ BX, hex-24(SP)
	VPBROADCASTB ·byteOf+0(SB), Y2
	VPBROADCASTB ·byteOf+1(SB), Y3
	VPBROADCASTB ·byteOf+2(SB), Y4
	VPBROADCASTB ·byteOf+3(SB), Y7
	VMOVDQU ·whiteOf(SB), Y5
	VMOVDQU ·markOf(SB), Y6
	VPCMPEQB Y8, Y8, Y8
	VPXOR Y11, Y11, Y11 // bytes beyond ASCII
	VPXOR Y12, Y12, Y12 // escapes
	VPXOR Y13, Y13, Y13 // wrong

loop:
	CMPQ SI, end-8(SP)
	JGE  done
	MOVQ at+24(FP), DI
	LEAQ (DI)(CX*4), DI
	MOVQ end-8(SP), AX // bytes behind the end are blanks
	SUBQ SI, AX
	MOVQ $64, BX
	CMPQ AX, BX
	CMOVQGT BX, AX
	MOVQ $-1, BX
	BZHIQ AX, BX, BX
	MOVQ BX, valid-16(SP)
	VMOVDQU (SI), Y0
	VMOVDQU 32(SI), Y1
	VPOR Y0, Y11, Y11
	VPOR Y1, Y11, Y11

	// Escapes: runs of backslashes by their length, odd or even.
	EQUAL(Y0, Y1, Y3, AX)
	ANDQ valid-16(SP), AX
	MOVQ R11, DX
	NOTQ DX
	ANDQ AX, DX // may begin an escape
	LEAQ (DX)(DX*1), R15
	MOVQ $0xAAAAAAAAAAAAAAAA, BX
	ORQ  BX, R15
	SUBQ DX, R15
	XORQ BX, R15
	MOVQ AX, DX
	ORQ  R11, DX
	XORQ R15, DX // is escaped
	ANDQ AX, R15 // begins an escape
	MOVQ R15, 8(R8)
	MOVQ R15, R11
	SHRQ $63, R11
	VMOVQ R15, X9
	VPOR Y9, Y12, Y12

	// What follows a backslash.
	MOVQ DX, AX
	ORQ  hex-24(SP), AX
	JZ   strings
	ESCAPED(Y0, Y14)
	ESCAPED(Y1, Y15)
	VPXOR Y10, Y10, Y10
	NEITHER(·lowOf(SB))
	ANDQ DX, AX
	WRONG
	EQUAL(Y0, Y1, ·uOf(SB), AX)
	ANDQ DX, AX
	LEAQ (AX)(AX*1), R14
	ORQ  AX, R14
	LEAQ (R14*4), R15
	ORQ  R14, R15
	SHLQ $1, R15
	ORQ  hex-24(SP), R15 // the four behind each u
	SHRQ $60, AX
	MOVQ AX, R14
	SHRQ $1, R14
	ORQ  AX, R14
	MOVQ R14, AX
	SHRQ $2, AX
	ORQ  R14, AX
	MOVQ AX, hex-24(SP)
	NEITHER(·hexOf(SB))
	ANDQ R15, AX
	WRONG

strings:
	EQUAL(Y0, Y1, Y2, R14)
	ANDQ valid-16(SP), R14
	NOTQ DX
	ANDQ DX, R14
	MOVQ R14, 0(R8)
	ADDQ $24, R8
	VMOVQ R14, X9
	VPCLMULQDQ $0, X8, X9, X9
	VMOVQ X9, R15
	XORQ R9, R15 // inside, with the opening quote
	MOVQ R15, R9
	SARQ $63, R9

	// White space and control characters.
	VPSHUFB   Y0, Y5, Y9
	VPCMPEQB  Y0, Y9, Y9
	VPMOVMSKB Y9, DX
	VPSHUFB   Y1, Y5, Y9
	VPCMPEQB  Y1, Y9, Y9
	VPMOVMSKB Y9, BX
	SHLQ      $32, BX
	ORQ       BX, DX
	MOVQ      valid-16(SP), BX
	NOTQ      BX
	ORQ       BX, DX
	VPMINUB   Y0, Y7, Y9
	VPCMPEQB  Y0, Y9, Y9
	VPMOVMSKB Y9, AX
	VPMINUB   Y1, Y7, Y9
	VPCMPEQB  Y1, Y9, Y9
	VPMOVMSKB Y9, BX
	SHLQ      $32, BX
	ORQ       BX, AX
	MOVQ      DX, BX
	NOTQ      BX
	ORQ       R15, BX
	ANDQ      BX, AX
	WRONG

	// Marks.
	VPSHUFB   Y0, Y6, Y9
	VPOR      Y0, Y4, Y14
	VPCMPEQB  Y14, Y9, Y9
	VPMOVMSKB Y9, AX
	VPSHUFB   Y1, Y6, Y9
	VPOR      Y1, Y4, Y15
	VPCMPEQB  Y15, Y9, Y9
	VPMOVMSKB Y9, BX
	SHLQ      $32, BX
	ORQ       BX, AX
	ANDQ      valid-16(SP), AX

	// Where tokens begin: marks outside, opening quotes, the first of all other bytes.
	ORQ  AX, DX
	ORQ  R14, DX
	ORQ  R15, DX
	NOTQ DX             // others
	MOVQ DX, -8(R8)
	LEAQ (R10)(DX*2), BX
	MOVQ DX, R10
	SHRQ $63, R10
	NOTQ BX
	ANDQ BX, DX         // numbers and words
	ANDQ R15, R14
	NOTQ R15
	ANDQ AX, R15
	ORQ  R14, R15
	MOVQ DX, R14
	ORQ  DX, R15
	MOVQ R15, DX
	PLACE(0)
	PLACE(4)
	PLACE(8)
	PLACE(12)
	PLACE(16)
	PLACE(20)
	PLACE(24)
	PLACE(28)
	PLACE(32)
	PLACE(36)
	PLACE(40)
	PLACE(44)
	PLACE(48)
	PLACE(52)
	PLACE(56)
	PLACE(60)
	TESTQ DX, DX
	JZ    classes

more:
	ADDQ $32, DI
	PLACE(32)
	PLACE(36)
	PLACE(40)
	PLACE(44)
	PLACE(48)
	PLACE(52)
	PLACE(56)
	PLACE(60)
	TESTQ DX, DX
	JNZ   more

classes:
	MOVQ CX, DX
	MOVQ CX, R12
	NOTQ R12
	ANDQ $~63, DX
	ADDQ tokens+32(FP), DX
	MOVQ R14, AX
	APPEND(40)
	EQUAL(Y14, Y15, ·openOf(SB), AX)
	APPEND(0)
	EQUAL(Y14, Y15, ·closeOf(SB), AX)
	APPEND(8)
	VPSLLW    $2, Y0, Y9 // bit 0x20 is the highest
	VPMOVMSKB Y9, AX
	VPSLLW    $2, Y1, Y9
	VPMOVMSKB Y9, BX
	SHLQ      $32, BX
	ORQ       BX, AX
	APPEND(16)
	EQUAL(Y0, Y1, ·colonOf(SB), AX)
	APPEND(24)
	EQUAL(Y0, Y1, ·commaOf(SB), AX)
	APPEND(32)
	POPCNTQ R15, AX
	ADDQ AX, CX
	ADDQ $64, SI
	ADDL $64, R13
	JMP  loop

done:
	MOVQ c+40(FP), AX
	MOVQ R9, 0(AX)
	MOVQ R10, 8(AX)
	MOVQ R11, 16(AX)
	VMOVQ X13, BX
	ORQ  BX, 24(AX) // wrong
	VPMOVMSKB Y11, BX
	ORQ  BX, 32(AX) // high
	VMOVQ X12, BX
	ORQ  BX, 40(AX) // escapes
	MOVQ R13, 48(AX)
	MOVQ CX, 56(AX) // tokens
	MOVQ hex-24(SP), BX
	MOVQ BX, 64(AX)
	VZEROUPPER
	RET

