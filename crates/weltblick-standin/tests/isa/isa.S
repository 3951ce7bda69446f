/* Instructions that a compiler seldom emits, and flags that it seldom looks at. */
    .syntax unified
    .cpu cortex-m3
    .thumb

    .section .vectors, "a"
    .word   0x20008000
    .word   start + 1

    .text
    .global start
    .thumb_func
    .type start, %function
start:
    bl      shifts
    bl      carries
    bl      it_blocks
    bl      tables
    bl      memory
    bl      fields
    bl      wide
    bl      isa_main
    .global isa_done
isa_done:
    b       isa_done

    .thumb_func
shifts:
    ldr     r0, =0x80000001
    movs    r1, #33
    movs    r2, #32
    movs    r3, #0
    lsls    r4, r0, #1
    lsrs    r4, r0, #1
    lsrs    r4, r0, #32
    asrs    r4, r0, #32
    asrs    r4, r0, #3
    movs    r4, r0
    lsls    r4, r1
    movs    r4, r0
    lsls    r4, r2
    movs    r4, r0
    lsrs    r4, r1
    movs    r4, r0
    lsrs    r4, r2
    movs    r4, r0
    asrs    r4, r1
    movs    r4, r0
    rors    r4, r2
    movs    r4, r0
    rors    r4, r1
    movs    r4, r0
    lsls    r4, r3
    lsls.w  r5, r0, #7
    lsrs.w  r5, r0, #7
    asrs.w  r5, r0, #7
    rors.w  r5, r0, #7
    rrxs    r5, r0
    rrxs    r5, r5
    rrx     r5, r5
    lsl.w   r6, r0, r1
    lsrs.w  r6, r0, r2
    asrs.w  r6, r0, r2
    rors.w  r6, r0, r1
    ands    r6, r0, r0, lsl #4
    orrs    r6, r0, r0, lsr #9
    eors    r6, r0, r0, asr #30
    bics    r6, r0, r0, ror #1
    orns    r6, r0, r0, rrx
    mvns    r6, r0, lsl #31
    tst     r0, r0, lsl #31
    teq     r0, r0, ror #4
    bx      lr

    .thumb_func
carries:
    ldr     r0, =0x7fffffff
    movs    r1, #1
    adds    r2, r0, r1
    adcs    r2, r0
    subs    r2, r0, r2
    sbcs    r2, r1
    sbcs.w  r3, r1, r0
    adcs.w  r3, r0, #0xff000000
    rsbs    r3, r0, #0
    rsbs.w  r3, r0, #0x00ff00ff
    negs    r3, r1
    cmp     r0, r1
    cmn     r0, r0
    cmp.w   r1, #0x80000000
    cmn.w   r1, #0xffffffff
    adds.w  r3, r0, #0xaa00aa00
    subs.w  r3, r0, #0x55555555
    addw    r3, r0, #4095
    subw    r3, r0, #4095
    movw    r3, #0xbeef
    movt    r3, #0xdead
    movs.w  r3, #0x80000000
    mvns.w  r3, #0x0ff00000
    tst.w   r0, #0x80000000
    teq.w   r0, #0xf0000000
    muls    r3, r0, r3
    adds    r0, #255
    subs    r0, #255
    cmp     r0, #127
    add     r8, r0, r1
    add     r8, r1
    mov     r9, r8
    cmp     r9, r0
    mrs     r4, apsr
    ldr     r5, =0xf8000000
    msr     apsr_nzcvq, r5
    mrs     r6, apsr
    msr     apsr_nzcvq, r4
    adr     r6, shifts
    add     r6, sp, #64
    bx      lr

    .thumb_func
it_blocks:
    movs    r0, #0
    movs    r1, #5
    cmp     r1, #5
    itete   eq
    moveq   r2, #1
    movne   r2, #2
    addeq   r2, r2, r1
    subne   r2, r2, r1
    cmp     r1, #6
    ittt    lt
    addlt   r0, r0, r1
    lsllt   r0, r0, #3
    cmplt   r0, #40
    ite     eq
    moveq   r3, #7
    movne   r3, #9
    it      mi
    rsbmi   r3, r3, #0
    it      pl
    mulpl   r3, r1, r3
    ite     vs
    movvs   r4, #1
    movvc   r4, #0
    ite     hi
    orrhi   r4, r4, #2
    orrls   r4, r4, #4
    ite     ge
    bicge   r4, r4, #1
    eorlt   r4, r4, #8
    ite     gt
    ldrgt   r5, =0x12345678
    ldrle   r5, =0x87654321
    itt     cs
    adccs   r5, r5, r1
    sbccs   r5, r5, r0
    it      cc
    addcc   r5, #1
    it      eq
    bxeq    lr
    bx      lr

    .thumb_func
tables:
    movs    r0, #0
    movs    r2, #0
1:  tbb     [pc, r0]
2:  .byte   (3f - 2b) / 2, (4f - 2b) / 2, (5f - 2b) / 2, 0
3:  adds    r2, #1
    b       6f
4:  adds    r2, #16
    b       6f
5:  adds    r2, #64
6:  adds    r0, #1
    cmp     r0, #3
    blt     1b
    movs    r0, #0
1:  tbh     [pc, r0, lsl #1]
2:  .hword  (3f - 2b) / 2, (4f - 2b) / 2
3:  adds    r2, #3
    b       5f
4:  adds    r2, #5
5:  adds    r0, #1
    cbz     r2, 6f
    cmp     r0, #2
    bne.w   1b
6:  cbnz    r2, 7f
    nop
7:  bx      lr

    .thumb_func
memory:
    push    {r4-r11, lr}
    ldr     r0, =0x20000100
    ldr     r1, =0x81828384
    ldr     r2, =0x05060788
    str     r1, [r0]
    str     r2, [r0, #4]
    strh    r1, [r0, #8]
    strb    r2, [r0, #10]
    ldr     r3, [r0, #1]
    ldr.w   r3, [r0, #2]
    ldrh    r3, [r0, #2]
    ldrh.w  r3, [r0, #3]
    ldrsh.w r3, [r0, #3]
    ldrb    r3, [r0, #3]
    ldrsb.w r3, [r0, #4]
    movs    r4, #4
    ldrsb   r3, [r0, r4]
    ldrsh   r3, [r0, r4]
    ldrh    r3, [r0, r4]
    ldrb    r3, [r0, r4]
    ldr     r3, [r0, r4]
    movs    r4, #1
    ldr.w   r3, [r0, r4, lsl #2]
    ldrsh.w r3, [r0, r4, lsl #1]
    str.w   r3, [r0, r4, lsl #3]
    str     r3, [r0, r4]
    strh    r3, [r0, r4]
    strb    r3, [r0, r4]
    ldr     r3, [r0], #4
    ldr     r3, [r0, #4]!
    ldr     r3, [r0, #-8]
    str     r3, [r0, #-4]!
    strh    r3, [r0], #-2
    strb    r3, [r0, #1]!
    ldr     r0, =0x20000180
    movs    r1, #1
    movs    r2, #2
    movs    r3, #3
    mov     r8, #8
    stmia   r0!, {r1-r3}
    stmdb   r0, {r1, r3, r8}
    stm     r0!, {r1, r2, r8}
    ldmdb   r0!, {r4-r6}
    ldm     r0, {r4-r7}
    ldmia.w r0!, {r4, r9, r10}
    subs    r0, #16
    ldm     r0, {r0, r1, r2}
    ldr     r0, =0x20000180
    strd    r1, r2, [r0, #8]
    strd    r3, r8, [r0], #8
    strd    r3, r8, [r0, #-16]!
    ldrd    r4, r5, [r0, #8]!
    ldrd    r6, r7, [r0], #-4
    ldr     r6, [sp, #4]
    str     r6, [sp, #8]
    ldrex   r1, [r0]
    adds    r1, #1
    strex   r2, r1, [r0]
    strex   r2, r1, [r0]
    ldrexb  r1, [r0]
    strexb  r2, r1, [r0]
    ldrexh  r1, [r0]
    clrex
    strexh  r2, r1, [r0]
    dmb
    dsb
    isb
    pop     {r4-r11, pc}

    .thumb_func
fields:
    ldr     r0, =0x89abcdef
    ubfx    r1, r0, #4, #12
    sbfx    r1, r0, #28, #4
    sbfx    r1, r0, #0, #32
    ubfx    r1, r0, #31, #1
    bfi     r1, r0, #8, #16
    bfc     r1, #3, #20
    ssat    r2, #8, r0
    ssat    r2, #16, r0, asr #12
    usat    r2, #8, r0
    usat    r2, #15, r0, lsl #4
    sxtb    r3, r0
    sxth    r3, r0
    uxtb    r3, r0
    uxth    r3, r0
    sxtb.w  r3, r0, ror #8
    sxth.w  r3, r0, ror #16
    uxtb.w  r3, r0, ror #24
    uxth.w  r3, r0, ror #8
    rev     r3, r0
    rev16   r3, r0
    revsh   r3, r0
    rev.w   r8, r0
    rev16.w r8, r0
    revsh.w r8, r0
    rbit    r8, r0
    clz     r8, r0
    movs    r4, #0
    clz     r8, r4
    movs    r4, #1
    clz     r8, r4
    mrs     r4, apsr
    movs    r5, #0
    msr     apsr_nzcvq, r5
    bx      lr

    .thumb_func
wide:
    ldr     r0, =0xfffffff3
    ldr     r1, =0x12345678
    umull   r2, r3, r0, r1
    smull   r2, r3, r0, r1
    umlal   r2, r3, r1, r1
    smlal   r2, r3, r0, r1
    mla     r4, r0, r1, r2
    mls     r4, r0, r1, r2
    mul.w   r8, r0, r1
    sdiv    r4, r1, r0
    udiv    r4, r1, r0
    udiv    r4, r0, r1
    sdiv    r4, r0, r1
    ldr     r5, =0x80000000
    mov     r6, #-1
    sdiv    r4, r5, r6
    movs    r6, #0
    sdiv    r4, r5, r6
    udiv    r4, r5, r6
    bx      lr
    .ltorg
