/* Labels without types, as much assembly has them: debug information has lines for them, and no functions. The second
   is called by nobody. */
    .syntax unified
    .thumb
    .section .text.kept, "ax", %progbits
    .global kept
kept:
    adds r0, r0, #2
    bx lr
    .section .text.dropped, "ax", %progbits
    .global never_linked
never_linked:
    .rept 24
    adds r0, r0, #1
    .endr
    bx lr
